//! The roles of columns: in the shape of a plan and in its result, passed on or replaced.

use crate::{
    Active, Add, Columns, Context, Elapsed, Filled, Filter, Latest, Operation, Role, Running,
    Shape, Sort, Spells, Table, Totals, calendar::Grain, sample::table,
};
use rstest::rstest;

fn records() -> Table {
    table(
        "vessel:text day:date until:date tons:number\nPetrel 2025-01-01 2025-01-04 5\nWend \
            2025-01-02 - 7\nPetrel 2025-02-03 2025-02-03 -",
    )
}

/// The columns that have a role, with it.
fn roles(shape: &Shape) -> String {
    let columns = shape.columns().iter();
    let named =
        columns.filter_map(|column| Some(format!("{}={}", column.name, column.role?.word())));
    named.collect::<Vec<_>>().join(" ")
}

#[rstest]
#[case(Latest::new("day").per(["vessel"]), "vessel=key day=event")]
#[case(Latest::new("day").per(["vessel"]).at_each(Grain::Month),
    "vessel=key tons=state state_on=date")]
#[case(Active::new("day", "until").count(), "day=period active=state")]
#[case(Active::new("day", "until").grain(Grain::Month).share(["tons"]),
    "month=period tons_share=measure")]
#[case(Spells::of_intervals("day", "until").per(["vessel"]), "vessel=key start=start end=end")]
#[case(Running::new("day").sum(["tons"]), "day=date sum_so_far_tons=state")]
#[case(Filled::new("day").per(["vessel"]).linear(["tons"]).mark("added"),
    "vessel=key day=date tons=measure added=mark")]
#[case(Totals::new().date(["day"]).grain(Grain::Month).per(["vessel"]).sum(["tons"]).count(),
    "month=period vessel=key sum_tons=measure")]
#[case(Elapsed::between("day", "until"), "day=event elapsed_days=measure")]
fn a_result_knows_what_its_columns_are_for(
    #[case] operation: impl Operation,
    #[case] expected: &str,
) {
    let records = records();
    let plan = operation.prepare(&records.shape(), &Context::new()).unwrap();
    assert_eq!(roles(plan.known_columns()), expected);
    let outcome = plan.apply(&[&records]).unwrap();
    assert_eq!(roles(&outcome.table.shape()), expected);
    // In batches as well, and through Arrow.
    let mut batches = Vec::new();
    plan.apply_into(&[&records], &mut |batch: &Table| {
        batches.push(roles(&batch.shape()));
        Ok(())
    })
    .unwrap();
    assert!(!batches.is_empty() && batches.iter().all(|roles| roles == expected), "{batches:?}");
    let again = Table::from_batch(outcome.table.batch()).unwrap();
    assert_eq!(roles(&again.shape()), expected);
    assert_eq!(again, outcome.table.with_roles(|_| None));
}

#[test]
fn steps_without_roles_of_their_own_pass_them_on_and_others_replace_them() {
    let monthly = Totals::new().date(["day"]).grain(Grain::Month).per(["vessel"]).sum(["tons"]);
    let monthly = monthly.apply(&records()).unwrap().table;
    let passed = "month=period vessel=key sum_tons=measure";
    let filtered = Filter::new("sum_tons > 0").apply(&monthly).unwrap().table;
    let sorted = Sort::new(["sum_tons"]).apply(&filtered).unwrap().table;
    let added = Add::new(["double = sum_tons * 2"]).apply(&sorted).unwrap().table;
    for table in [&filtered, &sorted, &added] {
        assert_eq!(roles(&table.shape()), passed);
    }
    let renamed = Columns::new(["vessel as ship", "sum_tons"]).apply(&added).unwrap().table;
    assert_eq!(roles(&renamed.shape()), "ship=key sum_tons=measure");
    let running = Running::new("month").max(["sum_tons"]).apply(&added).unwrap().table;
    assert_eq!(roles(&running.shape()), "month=date max_so_far_sum_tons=state");
    for role in Role::ALL {
        assert_eq!(Role::ALL.iter().filter(|other| other.word() == role.word()).count(), 1);
    }
}
