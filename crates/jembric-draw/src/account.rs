//! The foot line of a picture: its account of the rows.

use jembric_core::{Ledger, grouped};

/// The rows of the files of a step.
fn rows_of(ledger: &Ledger) -> u64 {
    ledger.rows_in + ledger.other_side.as_ref().map_or(0, |side| side.rows_in)
}

/// The rows that are drawn, and those that the steps added and set aside.
pub(crate) fn foot(drawn: u64, own: &Ledger, before: &[Ledger]) -> String {
    let rows = |count: u64| if count == 1 { "row" } else { "rows" };
    let mut parts = Vec::new();
    let read: u64 = before.iter().filter(|ledger| ledger.from.is_some()).map(rows_of).sum();
    if read > 0 {
        parts.push(format!("{} {} read", grouped(read), rows(read)));
    }
    parts.push(format!("{} {} drawn", grouped(drawn), rows(drawn)));
    let added: u64 = before.iter().map(|ledger| ledger.count("rows added")).sum();
    if added > 0 {
        parts.push(format!("{} added", grouped(added)));
    }
    let all = || before.iter().chain([own]);
    let sides =
        || all().flat_map(|ledger| std::iter::once(ledger).chain(ledger.other_side.as_deref()));
    let total = |entries: &mut dyn Iterator<Item = &jembric_core::Entry>| {
        let mut reasons: Vec<(String, u64)> = Vec::new();
        for entry in entries {
            match reasons.iter_mut().find(|(reason, _)| *reason == entry.reason.text()) {
                Some((_, rows)) => *rows += entry.rows,
                None => reasons.push((entry.reason.text().to_owned(), entry.rows)),
            }
        }
        reasons.retain(|(_, rows)| *rows > 0);
        let sum: u64 = reasons.iter().map(|(_, rows)| rows).sum();
        let named = reasons.iter().map(|(reason, rows)| match reasons.len() {
            1 => reason.clone(),
            _ => format!("{reason} {}", grouped(rows)),
        });
        (sum, named.collect::<Vec<_>>().join(", "))
    };
    let (aside, because) = total(&mut sides().flat_map(|ledger| &ledger.set_aside));
    parts.push(match aside {
        0 => "none set aside".to_owned(),
        _ => format!("{} set aside ({because})", grouped(aside)),
    });
    let (dropped, because) = total(&mut sides().flat_map(|ledger| &ledger.dropped));
    if dropped > 0 {
        parts.push(format!("{} dropped ({because})", grouped(dropped)));
    }
    let gaps = own.counts.iter().filter(|(name, _)| {
        ["missing", "infinite", "open"].iter().any(|word| name.starts_with(word))
    });
    parts.extend(gaps.map(|(name, count)| format!("{name}: {}", grouped(count))));
    let from = all().find_map(|ledger| ledger.from.as_deref());
    let from = from.map(|file| format!("{}: ", file.rsplit(['/', '\\']).next().unwrap_or(file)));
    format!("{}{}", from.unwrap_or_default(), parts.join(" · "))
}
