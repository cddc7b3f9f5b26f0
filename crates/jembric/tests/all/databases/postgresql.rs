//! A PostgreSQL server.

use crate::server::{Fresh, server};
use jembric::{
    Error, Table, Type,
    calendar::Grain,
    io::{self, Databases, Existing, Reading, Writing},
};
use rstest::rstest;
use std::{
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    thread,
};

fn as_csv(table: &Table) -> String {
    let mut bytes = Vec::new();
    Writing::new().write(table, &mut bytes).unwrap();
    String::from_utf8(bytes).unwrap()
}

fn csv(text: &str) -> Table {
    Reading::new().stream("t.csv", text.as_bytes()).unwrap()
}

#[rstest]
#[case("smallint", "-32768", "-32768", Type::Integer)]
#[case("integer", "2147483647", "2147483647", Type::Integer)]
#[case("bigint", "-9223372036854775808", "-9223372036854775808", Type::Integer)]
#[case("oid", "4294967295", "4294967295", Type::Integer)]
#[case("real", "0.1", "0.1", Type::Float)]
#[case("double precision", "-1e-300", "-1e-300", Type::Float)]
#[case("numeric", "12345678901234567890.5", "12345678901234567890.5", Type::Decimal { places: 1 })]
#[case("numeric(12,2)", "-0.05", "-0.05", Type::Decimal { places: 2 })]
#[case("numeric(38,0)", "99999999999999999999999999999999999999",
    "99999999999999999999999999999999999999", Type::Decimal { places: 0 })]
#[case("boolean", "true", "true", Type::Boolean)]
#[case("character(4)", "ab", "ab  ", Type::Text)]
#[case("character varying(9)", "é", "é", Type::Text)]
#[case(
    "uuid",
    "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11",
    "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11",
    Type::Text
)]
#[case("jsonb", "[1, 2]", "\"[1, 2]\"", Type::Text)]
#[case("date", "9999-12-31", "9999-12-31", Type::DAYS)]
#[case("date", "infinity", "", Type::DAYS)]
#[case("date", "-infinity", "", Type::DAYS)]
#[case("time", "23:59:59.999999", "23:59:59.999999", Type::Time)]
#[case("timestamp", "0001-01-01 00:00", "0001-01-01T00:00", Type::Moment { instant: false })]
#[case("timestamp", "infinity", "", Type::Moment { instant: false })]
#[case("timestamptz", "2025-03-30 03:30+02", "2025-03-30T01:30Z", Type::Moment { instant: true })]
#[case("weather", "rough", "rough", Type::Text)]
#[case("tons", "3.5", "3.5", Type::Decimal { places: 1 })]
fn each_type_is_read_exactly(
    #[case] declared: &str,
    #[case] value: &str,
    #[case] shown: &str,
    #[case] kind: Type,
) {
    let Some(fresh) = Fresh::new() else { return };
    fresh.run(&format!(
        "create type weather as enum ('calm', 'rough'); create domain tons as numeric(9, 1);
        create table t (x {declared}, n int); insert into t values ('{value}', 1), (null, 2)"
    ));
    let table = io::read(fresh.table("t")).unwrap();
    assert_eq!(as_csv(&table), format!("x,n\n{shown},1\n,2\n"));
    assert_eq!(table.shape().columns()[0].kind, Some(kind));
    // The types are known before the rows are read, except those that only the values tell.
    let known = Reading::new().shape(fresh.table("t")).unwrap().columns()[0].kind;
    assert_eq!(known, Some(kind).filter(|_| declared != "numeric"));
}

#[rstest]
#[case("money", "12", "x::numeric")]
#[case("text[]", "{a,b}", "array_to_string")]
#[case("bytea", "\\x01", "encode(")]
#[case("interval", "1 day", "extract(epoch from \"x\")")]
#[case("point", "(1,2)", "\"x\"::text")]
#[case("int4range", "[1,2)", "\"x\"::text")]
fn types_that_tables_do_not_have_are_refused(
    #[case] declared: &str,
    #[case] value: &str,
    #[case] instead: &str,
) {
    let Some(fresh) = Fresh::new() else { return };
    fresh
        .run(&format!("create table t (x {declared}, n int); insert into t values ('{value}', 1)"));
    let error = io::read(fresh.table("t")).unwrap_err().to_string();
    assert!(error.contains("which is not a type of tables"), "{error}");
    assert!(error.replace('"', "").contains(&instead.replace('"', "")), "{error}");
    let only = Reading::new().only(["n"]).file(fresh.table("t")).unwrap();
    assert_eq!(as_csv(&only), "n\n1\n");
    // What the message suggests works.
    let (_, expression) = error.rsplit_once("in a query: ").unwrap();
    let query = Reading::new().query(format!("select {expression} as x from t"));
    assert_eq!(query.file(&fresh.uri).unwrap().rows(), 1);
}

#[test]
fn ranges_become_two_columns_of_which_either_can_be_read() {
    let Some(fresh) = Fresh::new() else { return };
    fresh.run(
        "create table t (n int, stay daterange, shift tsrange);
        insert into t values (1, '[2025-01-01,2025-02-01)', '[2025-01-01 06:00,2025-01-01 14:00)'),
        (2, '[2025-01-01,)', null), (3, 'empty', '(,)')",
    );
    let whole = "n,stay_start,stay_end,shift_start,shift_end\n\
        1,2025-01-01,2025-01-31,2025-01-01T06:00,2025-01-01T14:00\n2,2025-01-01,,,\n3,,,,\n";
    assert_eq!(as_csv(&io::read(fresh.table("t")).unwrap()), whole);
    let only = Reading::new().only(["stay_end", "n"]).file(fresh.table("t")).unwrap();
    assert_eq!(as_csv(&only), "n,stay_end\n1,2025-01-31\n2,\n3,\n");
}

#[test]
fn a_column_of_months_has_a_comment_that_says_so() {
    let Some(fresh) = Fresh::new() else { return };
    let months = csv("month,week\n2025-06,2025-W27\n");
    io::write(&months, fresh.table("t")).unwrap();
    let comments =
        fresh.texts("select col_description('t'::regclass, n) from generate_series(1, 2) as n");
    assert_eq!(comments, ["(\"jembric.grain: month\")", "(\"jembric.grain: week\")"]);
    assert_eq!(fresh.texts("select * from t"), ["(2025-06-01,2025-06-30)"]);
    let again = io::read(fresh.table("t")).unwrap();
    assert_eq!(again, months);
    let shape = Reading::new().shape(fresh.table("t")).unwrap();
    let month = shape.columns()[0].kind.and_then(Type::periods);
    assert_eq!(month, Some(Grain::Month.into()));
    let nullable = fresh.texts(
        "select attname from pg_attribute where attrelid = 't'::regclass and attnum > 0 and \
            attnotnull",
    );
    assert_eq!(nullable, [""; 0], "no column must have a value");
}

#[test]
fn all_that_is_read_is_of_one_moment() {
    let Some(fresh) = Fresh::new() else { return };
    fresh.run("create table a (n int); create table b (n int); insert into a values (1)");
    let databases = Databases::default();
    let rows =
        |table: &str| Reading::new().through(&databases).file(fresh.table(table)).unwrap().rows();
    assert_eq!(rows("a"), 1);
    fresh.run("insert into a values (2); insert into b values (1), (2)");
    assert_eq!((rows("b"), rows("a")), (0, 1));
    databases.close();
    assert_eq!((rows("b"), rows("a")), (2, 2));
}

#[test]
fn only_the_columns_that_are_used_are_fetched() {
    let Some(fresh) = Fresh::new() else { return };
    let user = format!("reader_{}", std::process::id());
    fresh.run(&format!(
        "create table t (a int primary key, b text, hidden text); insert into t values \
            (1, 'x', 'y'); create role {user} login password 'gull'; grant select (b) on t to \
            {user}; create schema closed; create table closed.s (a int)"
    ));
    let uri = fresh.as_user(&format!("{user}:gull"));
    let only = Reading::new().only(["b"]).file(format!("{uri}:t")).unwrap();
    assert_eq!(as_csv(&only), "b\nx\n");
    for table in ["t", "closed.s"] {
        let error = io::read(format!("{uri}:{table}")).unwrap_err().to_string();
        assert!(error.contains("permission denied"), "{error}");
        assert!(error.contains(&format!("The user `{user}` needs a permission")), "{error}");
    }
    let error = io::write(&csv("a\n1\n"), format!("{uri}:closed.new")).unwrap_err().to_string();
    assert!(error.contains("permission denied"), "{error}");
    // What cannot be counted is listed all the same.
    let tables = io::database(&uri).unwrap().tables().unwrap();
    let counted: Vec<_> = tables.iter().map(|table| (&*table.name, table.rows)).collect();
    assert_eq!(counted, [("closed.s", None), ("t", Some(1))]);
    fresh.run(&format!("drop table t; drop schema closed cascade; drop role {user}"));
}

/// A listener that passes this many bytes of the server on, and then ends both connections.
fn dying_server(server: &str, most: usize) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let host = server.split_once('@').unwrap().1.split(['/', '?']).next().unwrap().to_owned();
    thread::spawn(move || {
        for client in listener.incoming().flatten() {
            let to = TcpStream::connect(&host).unwrap();
            let (mut from_client, mut to_server) =
                (client.try_clone().unwrap(), to.try_clone().unwrap());
            thread::spawn(move || std::io::copy(&mut from_client, &mut to_server));
            let (mut client, mut server, mut left) = (client, to, most);
            thread::spawn(move || {
                let mut buffer = [0; 4096];
                while left > 0 {
                    match server.read(&mut buffer) {
                        Ok(0) | Err(_) => break,
                        Ok(read) => {
                            let passed = read.min(left);
                            left -= passed;
                            if client.write_all(&buffer[..passed]).is_err() {
                                break;
                            }
                        }
                    }
                }
                let _ = client.shutdown(std::net::Shutdown::Both);
                let _ = server.shutdown(std::net::Shutdown::Both);
            });
        }
    });
    port
}

#[test]
fn a_server_that_dies_while_rows_are_copied_is_an_error() {
    let Some(fresh) = Fresh::new() else { return };
    fresh.run("create table t as select n, repeat('x', 100) as x from generate_series(1, 99999) n");
    let port = dying_server(&fresh.uri, 3_000_000);
    let (before, rest) = fresh.uri.rsplit_once('@').unwrap();
    let database = rest.rsplit_once('/').unwrap().1;
    let uri = format!("{before}@127.0.0.1:{port}/{database}?sslmode=disable");
    let error = io::read(format!("{uri}:t")).unwrap_err().to_string();
    assert!(error.contains("the connection to the server has ended"), "{error}");
    // The server itself may end a connection, too.
    let mut open = io::database(&fresh.uri).unwrap();
    fresh.client().batch_execute(
        "select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() and \
            datname = current_database()",
    ).unwrap();
    let error = open.table("t").unwrap_err().to_string();
    assert!(error.contains("ended"), "{error}");
}

#[test]
fn a_failed_write_leaves_the_database_as_it_was() {
    let Some(fresh) = Fresh::new() else { return };
    fresh.run(
        "create table t (x bigint check (x < 5)); insert into t values (1); create view v as \
            select * from t; create table typed (x integer, y numeric(9,1), z varchar(3))",
    );
    let write = |text: &str, table: &str, existing| {
        Writing::new().existing(existing).file(&csv(text), fresh.table(table))
    };
    for (text, table, existing, part) in [
        ("x\n2\n9\n", "t", Existing::Append, "check constraint"),
        ("x\n2\n", "v", Existing::Replace, "this is a view"),
        ("y\n2\n", "t", Existing::Replace, "depend"),
        ("x\nb\n", "t", Existing::Append, "has the type bigint there, and text in the result"),
        ("x,y,z\n1,1.5,a\n", "typed", Existing::Append, "integer there, and bigint"),
        ("x\n1\n", "typed", Existing::Append, "the result lacks `y`, `z`"),
        ("x\na\0b\n", "nul", Existing::Refuse, "row 1: column `x`: the text has a NUL"),
    ] {
        let error = write(text, table, existing).unwrap_err().to_string();
        assert!(error.contains(part), "{error}");
        assert!(error.contains(&format!(":{table}: ")), "{error}");
    }
    fresh.run("drop table typed; create table typed (y numeric(9,1), z varchar(3))");
    write("y,z\n1.5,abc\n", "typed", Existing::Append).unwrap();
    let error = write("y,z\n1.55,abc\n", "typed", Existing::Append).unwrap_err().to_string();
    assert!(error.contains("numeric(9,1) there, and numeric("), "{error}");
    let error = write("y,z\n1.5,abcd\n", "typed", Existing::Append).unwrap_err().to_string();
    assert!(error.contains("value too long"), "{error}");
    let tables = io::database(&fresh.uri).unwrap().tables().unwrap();
    let left: Vec<_> = tables.iter().map(|table| (&*table.name, table.rows)).collect();
    assert_eq!(left, [("t", Some(1)), ("typed", Some(1)), ("v", Some(1))]);
}

#[test]
fn a_table_in_use_is_waited_for_and_then_an_error() {
    let Some(fresh) = Fresh::new() else { return };
    fresh.run("create table t (x bigint)");
    let mut other = fresh.client();
    other.batch_execute("begin; lock table t in access exclusive mode").unwrap();
    let uri = format!("{}?options=-c%20lock_timeout%3D200", fresh.uri);
    let error = io::read(format!("{uri}:t")).unwrap_err().to_string();
    assert!(error.contains("Another connection uses the table"), "{error}");
    other.batch_execute("rollback").unwrap();
    assert_eq!(io::read(format!("{uri}:t")).unwrap().rows(), 0);
}

#[rstest]
#[case::wrong_password("jembric:wrong@HOST/postgres", "refuses the password of the user `jembric`")]
#[case::unknown_user("nobody:wrong@HOST/postgres", "refuses the password of the user `nobody`")]
#[case::no_password("jembric@HOST/postgres?passfile=/none", "asks for the password")]
#[case::unknown_host("jembric:wrong@no.such.host.invalid/postgres", "the host is unknown")]
#[case::refused("jembric:wrong@127.0.0.1:1/postgres", "the connection was refused")]
#[case::no_socket("jembric:wrong@%2Fnone/postgres", "no server has a socket in /none")]
#[case::no_database("RIGHT@HOST/nothing", "there is no database `nothing`")]
fn a_connection_that_fails_is_one_clear_error(#[case] uri: &str, #[case] part: &str) {
    let Some(server) = server() else { return };
    let (_, rest) = server.split_once("://").unwrap();
    let (user, host) = rest.rsplit_once('@').unwrap();
    let host = host.split('/').next().unwrap();
    let uri = format!("postgresql://{}", uri.replace("HOST", host).replace("RIGHT", user));
    let error = io::database(&uri).unwrap_err().to_string();
    assert!(error.contains(part), "{error}");
    assert!(!error.contains("wrong"), "{error}");
    assert_eq!(error.lines().count(), 1, "{error}");
}

#[rstest]
#[case("disable", None, Ok(()))]
#[case("prefer", None, Ok(()))]
#[case("require", None, Ok(()))]
#[case("verify-ca", None, Err("certificate is not accepted"))]
#[case("verify-full", None, Err("certificate is not accepted"))]
#[case("verify-ca", Some("127.0.0.1"), Ok(()))]
#[case("verify-full", Some("localhost"), Ok(()))]
#[case("verify-full", Some("127.0.0.1"), Err("not valid for name"))]
#[case("require", Some("127.0.0.1"), Ok(()))]
fn certificates_are_verified_as_the_uri_says(
    #[case] mode: &str,
    #[case] trusted_as: Option<&str>,
    #[case] expected: Result<(), &str>,
) {
    let (Some(server), Ok(authority)) = (server(), std::env::var("JEMBRIC_AUTHORITY")) else {
        return;
    };
    let mut uri = format!("{server}?sslmode={mode}");
    if let Some(host) = trusted_as {
        uri = format!("{}&sslrootcert={authority}", uri.replace("localhost", host));
    }
    match (io::database(&uri), expected) {
        (Ok(mut database), Ok(())) => {
            let used = database.query("select ssl from pg_stat_ssl where pid = pg_backend_pid()");
            let is_encrypted = as_csv(&used.unwrap()).contains("true");
            assert_eq!(is_encrypted, mode != "disable");
        }
        (Err(error), Err(part)) => {
            let error = error.to_string();
            assert!(error.contains(part), "{error}");
        }
        (opened, expected) => panic!("{opened:?}, expected {expected:?}"),
    }
}

#[test]
fn the_debug_form_has_no_password() {
    let Some(fresh) = Fresh::new() else { return };
    let shown = format!("{:?}", io::database(&fresh.uri).unwrap());
    assert!(shown.contains("postgresql://jembric@"), "{shown}");
    assert!(matches!(io::database(fresh.table("t")), Err(Error::Database { .. })));
}

/// The rows of a table with the columns of the result are replaced, and the table stays: with its
/// permissions, indexes and views. A table that others refer to is emptied as well.
#[test]
fn a_replaced_table_with_the_same_columns_stays_itself() {
    let Some(fresh) = Fresh::new() else { return };
    fresh.run(
        "create table stays (vessel text primary key, tons bigint check (tons > 0), day date);
         insert into stays values ('Petrel', 1, '2025-01-01'), ('Wend', 2, null);
         create view heavy as select * from stays where tons > 5;
         create index by_tons on stays (tons);
         grant select on stays to public;
         create table notes (vessel text references stays);",
    );
    let oid = "select 'stays'::regclass::oid, (select relacl from pg_class where oid = \
        'stays'::regclass), (select count(*) from pg_indexes where tablename = 'stays')";
    let before = fresh.texts(oid);
    let replace = |text: &str| {
        Writing::new().existing(Existing::Replace).file(&csv(text), fresh.table("stays"))
    };
    // The columns may come in another order.
    replace("tons,day,vessel\n7,2025-06-30,Marram\n3,,Petrel\n").unwrap();
    assert_eq!(fresh.texts(oid), before);
    assert_eq!(fresh.texts("select * from heavy"), ["(Marram,7,2025-06-30)"]);
    assert_eq!(fresh.texts("select count(*) from stays"), ["(2)"]);
    // What the table refuses changes nothing.
    let error = replace("tons,day,vessel\n-7,2025-06-30,Marram\n").unwrap_err().to_string();
    assert!(error.contains("stays_tons_check"), "{error}");
    assert_eq!(fresh.texts("select count(*) from stays"), ["(2)"]);
    // Without a table that refers to it, it is truncated.
    fresh.run("drop table notes");
    replace("tons,day,vessel\n9,2025-06-30,Marram\n").unwrap();
    assert_eq!(
        (fresh.texts(oid), fresh.texts("select count(*) from heavy")),
        (before, vec!["(1)".to_owned()])
    );
    // Other columns need another table, which a view of the old one prevents.
    let error = replace("vessel\nMarram\n").unwrap_err().to_string();
    assert!(error.contains("other objects depend on it"), "{error}");
    assert_eq!(fresh.texts("select count(*) from stays"), ["(1)"]);
    fresh.run("drop view heavy");
    replace("vessel\nMarram\n").unwrap();
    assert_eq!(fresh.texts("select * from stays"), ["(Marram)"]);
    // Months are no days, though their columns have one type.
    replace("vessel,day\nMarram,2025-06-30\n").unwrap();
    replace("vessel,day\nMarram,2025-06\n").unwrap();
    let read = jembric::io::read(fresh.table("stays")).unwrap();
    assert_eq!(as_csv(&read), "vessel,day\nMarram,2025-06\n");
}
