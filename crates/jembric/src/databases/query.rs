//! The end of a query.

/// A query without the semicolons at its end, and without the comments and blanks around them.
///
/// Semicolons inside texts, names and comments do not count. Whether there is more than one
/// statement is for the database to say.
pub(super) fn without_end(query: &str) -> &str {
    let mut end = 0;
    let mut place = 0;
    while let Some(c) = query[place..].chars().next() {
        let rest = &query[place..];
        let closing = |from: usize, mark: &str| {
            rest[from..].find(mark).map_or(rest.len(), |length| from + length + mark.len())
        };
        let length = match c {
            '\'' | '"' | '`' => closing(1, c.encode_utf8(&mut [0; 4])),
            '-' if rest.starts_with("--") => {
                place += closing(2, "\n");
                continue;
            }
            '/' if rest.starts_with("/*") => {
                place += closing(2, "*/");
                continue;
            }
            '$' => dollar_quote(rest).map_or(1, |mark| closing(mark.len(), mark)),
            c => c.len_utf8(),
        };
        place += length;
        if c != ';' && !c.is_whitespace() {
            end = place;
        }
    }
    &query[..end]
}

/// The mark of a text in dollars (`$$` or `$name$`) that begins here.
fn dollar_quote(rest: &str) -> Option<&str> {
    let end = 1 + rest[1..].find('$')?;
    let name = &rest[1..end];
    let is_name = name.chars().all(|c| c.is_alphanumeric() || c == '_');
    (is_name && !name.starts_with(|c: char| c.is_ascii_digit())).then(|| &rest[..=end])
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("select 1", "select 1")]
    #[case(" select 1 ; ;\n", " select 1")]
    #[case("select 1; -- all of it", "select 1")]
    #[case("select 1 -- all;\n/* of; it */ ;", "select 1")]
    #[case("select ';' as \"a;--b\"; -- c", "select ';' as \"a;--b\"")]
    #[case("select 'it''s;';", "select 'it''s;'")]
    #[case("select $$a;--$$;", "select $$a;--$$")]
    #[case("select $x$a;$$;$x$ -- b", "select $x$a;$$;$x$")]
    #[case("select $1 -- b;", "select $1")]
    #[case("select 1; drop table t;", "select 1; drop table t")]
    #[case("select 'open; -- b", "select 'open; -- b")]
    #[case("select 'é'; -- ü", "select 'é'")]
    #[case("-- nothing", "")]
    fn the_end_of_a_query_is_left_out(#[case] query: &str, #[case] without: &str) {
        assert_eq!(without_end(query), without);
    }
}
