"""Holds files of open formats against independent implementations: what the command writes is read there, and the other way round.

Usage: formats.py COMMAND DEMO LIBRARY, the last of which is the example `c_stream`, with pyarrow, openpyxl and odfpy installed.
"""

import csv
import ctypes
import datetime
import decimal
import json
import pathlib
import subprocess
import sys
import tempfile

import odf.opendocument
import odf.table
import odf.text
import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq

command, demo, library = sys.argv[1], pathlib.Path(sys.argv[2]), ctypes.CDLL(sys.argv[3])
work = pathlib.Path(tempfile.mkdtemp())


def jembric(*arguments, fails=False):
    ran = subprocess.run([command, *map(str, arguments)], capture_output=True, text=True, cwd=work)
    assert (ran.returncode != 0) == fails, ran.stderr
    return ran.stderr if fails else ran.stdout


def read(path):
    return pq.read_table(path) if path.suffix == ".parquet" else pa.ipc.open_file(path).read_all()


# What the command writes.
for ending in ["parquet", "arrow"]:
    out = work / f"dues.{ending}"
    jembric("sort", demo / "dues.csv", "invoice", "--out", out)
    table = read(out)
    with open(demo / "dues.csv") as file:
        rows = sorted(csv.DictReader(file), key=lambda row: row["invoice"])
    day = lambda text: datetime.datetime.strptime(text, "%d/%m/%Y").date() if text else None
    for ours, row in zip(table.to_pylist(), rows, strict=True):
        assert ours["invoice"] == row["invoice"] and ours["paid"] == day(row["paid"]), (ours, row)
        assert ours["amount"] == decimal.Decimal(row["amount"]), (ours, row)
    log = work / f"log.{ending}"
    jembric("sort", demo / "crane_log.csv", "at", "--out", log)
    at = read(log).schema.field("at").type
    assert at == pa.timestamp("us", tz="UTC"), at
    counts = work / f"counts.{ending}"
    jembric("active", demo / "stays.csv", "--start", "arrived", "--end", "left", "--grain", "month", "--count", "--out", counts)
    assert read(counts).schema.field("month").metadata[b"jembric.grain"] == b"month"

# What is written there.
made = pa.table(
    {
        "vessel": pa.array(["Petrel", None, "Wend"]).dictionary_encode(),
        "note": pa.array(["a", "ü", None], pa.large_string()),
        "day": pa.array([datetime.date(2024, 2, 29), None, datetime.date(9999, 12, 31)]),
        "old": pa.array([datetime.datetime(2024, 2, 29), None, None], pa.date64()),
        "at": pa.array([datetime.datetime(2025, 3, 30, 0, 30), None, None], pa.timestamp("ms", "Europe/Lisbon")),
        "amount": pa.array([decimal.Decimal("1.10"), None, decimal.Decimal("-0.05")], pa.decimal128(10, 2)),
        "n": pa.array([1, None, 3], pa.uint16()),
        "x": pa.array([0.5, None, float("nan")], pa.float32()),
        "is_open": pa.array([True, None, False]),
    }
)
expected = (
    "vessel,note,day,old,at,amount,n,x,is_open\n"
    "Petrel,a,2024-02-29,2024-02-29,2025-03-30T00:30Z,1.10,1,0.5,true\n"
    ",ü,,,,,,,\n"
    "Wend,,9999-12-31,,,-0.05,3,,false\n"
)
pq.write_table(made, work / "made.parquet", compression="zstd")
pq.write_table(made, work / "snappy.parquet", row_group_size=1)
with pa.ipc.new_file(work / "made.arrow", made.schema) as writer:
    writer.write_table(made)
with pa.ipc.new_stream(work / "made.arrows", made.schema) as writer:
    writer.write_table(made)
columns = ",".join(made.column_names)
for name in ["made.parquet", "snappy.parquet", "made.arrow", "made.arrows"]:
    got = jembric("columns", name, columns, "-q")
    assert got == expected, (name, got)
nested = pa.table({"list": pa.array([[1, 2], None])})
pq.write_table(nested, work / "nested.parquet")
error = jembric("look", "nested.parquet", fails=True)
assert "`list`" in error, error

# Workbooks: what the command writes.
jembric("sort", demo / "dues.csv", "invoice", "--out", "dues.xlsx")
sheet = openpyxl.load_workbook(work / "dues.xlsx").active
names, *cells = sheet.iter_rows()
assert [cell.value for cell in names] == list(rows[0]), names
midnight = lambda text: datetime.datetime.combine(day(text), datetime.time()) if text else None
for ours, row in zip(cells, rows, strict=True):
    invoice, _, _, issued, _, paid, amount = ours
    assert (invoice.value, invoice.data_type) == (row["invoice"], "s"), row
    assert (issued.value, paid.value) == (midnight(row["issued"]), midnight(row["paid"])), row
    assert (issued.number_format, amount.number_format) == ("yyyy-mm-dd", "0.00"), row
    assert decimal.Decimal(str(amount.value)) == decimal.Decimal(row["amount"]), row
(work / "formula.csv").write_text("a,b\n=1+1,2\n\"=HYPERLINK(\"\"x\"\")\",3\n@SUM(1),4\n")
jembric("sort", "formula.csv", "b", "--out", "formula.xlsx")
sheet = openpyxl.load_workbook(work / "formula.xlsx").active
assert [(cell.value, cell.data_type) for cell in sheet["A"]][1:] == [("=1+1", "s"), ('=HYPERLINK("x")', "s"), ("@SUM(1)", "s")]

# What is written there, with the count of days from 1900 and from 1904.
expected = "vessel,day,at,time,n,x,code,is_open\nPetrel,2024-02-29,2025-03-30T01:30,14:05,3,2.5,00417,true\n,1904-01-02,2025-03-30T00:00:00.500,,,,x,\n"
for epoch in [openpyxl.utils.datetime.WINDOWS_EPOCH, openpyxl.utils.datetime.MAC_EPOCH]:
    book = openpyxl.Workbook()
    book.epoch = epoch
    book.active.title = "Stays"
    for row in [
        expected.split("\n")[0].split(","),
        ["Petrel", datetime.date(2024, 2, 29), datetime.datetime(2025, 3, 30, 1, 30), datetime.time(14, 5), 3, 2.5, "00417", True],
        [None, datetime.date(1904, 1, 2), datetime.datetime(2025, 3, 30, 0, 0, 0, 500000), None, None, None, "x", None],
    ]:
        book.active.append(row)
    book.create_sheet("Notes").append(["a"])
    book.save(work / "made.xlsx")
    got = jembric("columns", "made.xlsx:Stays", expected.split("\n")[0], "-q")
    assert got == expected, got
assert "Stays, Notes" in jembric("look", "made.xlsx", fails=True)
document = odf.opendocument.OpenDocumentSpreadsheet()
table = odf.table.Table(name="Stays")
for row in [
    [("string", {}, name) for name in ["day", "n", "at", "is_open"]],
    [("date", {"datevalue": "2024-02-29"}, "29 Feb"), ("float", {"value": "3.25"}, "3.3"), ("date", {"datevalue": "2025-03-30T01:30:00"}, ""), ("boolean", {"booleanvalue": "true"}, "")],
    [("date", {"datevalue": "0001-01-01"}, ""), ("float", {"value": "4"}, "4"), ("date", {"datevalue": "2025-03-31"}, ""), ("boolean", {"booleanvalue": "false"}, "")],
]:
    line = odf.table.TableRow()
    for kind, value, shown in row:
        cell = odf.table.TableCell(valuetype=kind, **value)
        cell.addElement(odf.text.P(text=shown))
        line.addElement(cell)
    table.addElement(line)
document.spreadsheet.addElement(table)
document.save(work / "made.ods")
expected = "day,n,at,is_open\n2024-02-29,3.25,2025-03-30T01:30,true\n0001-01-01,4.00,2025-03-31T00:00,false\n"
assert jembric("columns", "made.ods:Stays", "day,n,at,is_open", "-q") == expected

# JSON Lines.
jembric("sort", demo / "stays.csv", "stay", "--out", "stays.jsonl")
with open(demo / "stays.csv") as file:
    rows = sorted(csv.DictReader(file), key=lambda row: row["stay"])
for line, row in zip((work / "stays.jsonl").read_text().splitlines(), rows, strict=True):
    assert {name: str(value or "") for name, value in json.loads(line).items()} == row, line
with open(work / "made.jsonl", "w") as file:
    for row in [{"a": "ü\n", "n": 1.5}, {"n": None, "b": True}, {"a": "00417", "n": 2}]:
        file.write(json.dumps(row) + "\n")
assert jembric("columns", "made.jsonl", "a,n,b", "-q") == 'a,n,b\n"ü\n",1.5,\n,,true\n00417,2.0,\n'

# Arrow's C stream interface, both ways.
library.harbour_latest.restype = ctypes.c_int64
records = pa.table(
    {
        "vessel": pa.chunked_array([["Petrel", "Wend"], ["Petrel", None]]),
        "day": pa.chunked_array([[datetime.date(2024, 2, 29), datetime.date(2024, 1, 1)], [datetime.date(2024, 3, 1), None]]),
    }
)
latest = []
for column in ["day", "days"]:
    room = [ctypes.create_string_buffer(64) for _ in range(2)]
    records_at, answer_at = map(ctypes.addressof, room)
    records.to_reader()._export_to_c(records_at)
    rows = library.harbour_latest(ctypes.c_void_p(records_at), b"vessel", column.encode(), ctypes.c_void_p(answer_at))
    latest.append(pa.RecordBatchReader._import_from_c(answer_at).read_all().to_pylist() if rows >= 0 else rows)
assert latest == [[{"vessel": "Wend", "day": datetime.date(2024, 1, 1)}, {"vessel": "Petrel", "day": datetime.date(2024, 3, 1)}], -1], latest
print("formats: read and written as by other implementations")
