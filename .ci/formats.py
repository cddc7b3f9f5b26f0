"""Holds Parquet and Arrow files against an independent implementation: what the command writes is read there, and the other way round.

Usage: formats.py COMMAND DEMO, with pyarrow installed.
"""

import csv
import datetime
import decimal
import pathlib
import subprocess
import sys
import tempfile

import pyarrow as pa
import pyarrow.parquet as pq

command, demo = sys.argv[1], pathlib.Path(sys.argv[2])
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
print("formats: read and written as by the other implementation")
