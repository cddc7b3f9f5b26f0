//! Stays of vessels at berths for property tests, and a step of each kind on them.

use jembric::calendar::Day;
use proptest::prelude::*;

/// A stay of a vessel at a berth.
#[derive(Clone, Debug, Default)]
pub(crate) struct Stay {
    pub(crate) vessel: Option<u8>,
    pub(crate) berth: Option<u8>,
    pub(crate) arrived: Option<i32>,
    pub(crate) days: Option<i32>,
    pub(crate) tons: Option<i64>,
    pub(crate) level: Option<i32>,
}

/// Few days, vessels and values, so that ties and missing values are common.
pub(crate) fn stay() -> impl Strategy<Value = Stay> {
    (
        prop::option::weighted(0.9, 0..6_u8),
        prop::option::weighted(0.8, 0..3_u8),
        prop::option::weighted(0.9, 20_000..20_060_i32),
        prop::option::weighted(0.8, -2..20_i32),
        prop::option::weighted(0.8, -5..5_i64),
        prop::option::weighted(0.8, -1_000..1_000_i32),
    )
        .prop_map(|(vessel, berth, arrived, days, tons, level)| Stay {
            vessel,
            berth,
            arrived,
            days,
            tons,
            level,
        })
}

pub(crate) fn day(number: i32) -> String {
    Day::from_number(number).unwrap().to_string()
}

/// The stays as CSV. Long names show that texts are kept, and quoted line breaks that lines are.
pub(crate) fn csv(stays: &[Stay]) -> String {
    let mut text = "vessel,berth,arrived,left,tons,level\n".to_owned();
    for Stay { vessel, berth, arrived, days, tons, level } in stays {
        let vessel = vessel.map_or(String::new(), |n| match n {
            0 => "\"vessel with a\nlong name\"".to_owned(),
            n => format!("v{n}"),
        });
        let left = arrived.zip(*days).map_or(String::new(), |(from, days)| day(from + days));
        let level = level.map_or(String::new(), |level| format!("{}e-3", level));
        let cells = [
            vessel,
            berth.map_or(String::new(), |n| format!("B{n}")),
            arrived.map_or(String::new(), day),
            left,
            tons.map_or(String::new(), |tons| tons.to_string()),
            level,
        ];
        text += &(cells.join(",") + "\n");
    }
    text
}

/// A step of each kind, on `stays.csv` and `calls.csv`.
pub(crate) const STEPS: &[&str] = &[
    "filter = 'tons > 1 or berth is missing'",
    "add = ['more = tons * 2', 'late = arrived + 3 days']",
    "add = 'share = level / 7'",
    "columns = ['vessel as ship', 'left', 'tons']",
    "sort = ['tons:down', 'arrived', 'vessel']",
    "sort = 'berth'",
    "stack = { files = ['calls.csv'], source = 'book' }",
    "elapsed = { from = 'arrived', to = 'left', bands = [0, 7] }",
    "elapsed = { date = 'arrived', since-previous = true, per = ['vessel'] }",
    "recent = { date = 'arrived', last = '20 days' }",
    "latest = { per = ['vessel'], date = 'arrived' }",
    "latest = { per = ['vessel', 'berth'], date = 'arrived', then = ['tons'], ties = 'first' }",
    "latest = { per = ['vessel'], date = 'arrived', mark = 'is_latest' }",
    "latest = { per = ['vessel'], date = 'arrived', at-each = 'week', ties = 'last' }",
    "earliest = { date = 'left', oldest = 2 }",
    "totals = { date = ['arrived'], grain = 'week', per = ['vessel'], sum = ['tons', 'level'], \
     count = true }",
    "totals = { per = ['vessel'], sum = ['tons'], mean = ['level'], side-by-side = 'berth', \
     margins = true }",
    "totals = { date = ['arrived'], grain = 'month', per = ['vessel'], sum = ['tons'], beside = \
     ['all'], distinct = ['berth'] }",
    "active = { start = 'arrived', end = 'left', count = true, grain = 'week', per = ['berth'] }",
    "active = { start = 'arrived', end = 'left', grain = 'week', share = ['tons'] }",
    "active = { start = 'arrived', end = 'left', on = '2024-11-20' }",
    "spells = { start = 'arrived', end = 'left', per = ['vessel'], join-gaps = 1 }",
    "spells = { date = 'arrived', value = ['berth'], per = ['vessel'] }",
    "running = { per = ['vessel'], date = 'arrived', max = ['tons'], sum = ['tons', 'level'], \
     count = true, mark-highs = 'is_high' }",
    "running = { per = ['vessel', 'berth'], date = 'arrived', mean = ['level'], trailing = '9 \
     days' }",
    "running = { date = 'arrived', sum = ['tons', 'level'], min = ['level'], count = true }",
    "running = { date = 'arrived', mean = ['level'], anew-each = 'month', row-by-row = true }",
    "running = { date = 'arrived', max = ['tons'], trailing = '5 days', mark-highs = 'is_high' }",
    "elapsed = { date = 'arrived', since-previous = true }",
    "spells = { start = 'arrived', end = 'left', join-gaps = 1 }",
    "spells = { date = 'arrived', value = ['vessel', 'berth'] }",
    "within = { windows = 'calls.csv', date = 'arrived', window = 'arrived..left' }",
    "within = { windows = 'calls.csv', date = 'left', window = 'arrived..left', keep = \
     'every-event', pick = 'last' }",
    "within = { windows = 'calls.csv', interval = 'arrived..left', window = 'left..', keep = \
     'stray-events' }",
    "within = { windows = 'calls.csv', date = 'left', window = 'arrived..left', keep = \
     'empty-windows' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'arrived', window = \
     'arrived..left' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'arrived', window = \
     'arrived..left', pick = 'first', keep = 'every-event', bring = ['tons as lifted'] }",
    "within = { windows = 'calls.csv', match = ['vessel', 'berth'], interval = 'arrived..left', \
     window = 'arrived - 3 days..left + 3 days' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'left', window = \
     'arrived..left', keep = 'stray-events' }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'left', window = \
     'arrived..left', keep = 'empty-windows' }",
    "changes = { before = 'calls.csv', per = ['vessel', 'berth'], ties = 'first' }",
    "changes = { before = 'calls.csv', per = ['vessel', 'berth', 'arrived'] }",
];

/// Steps whose input must have one record of each vessel and day.
pub(crate) const OF_DAYS: &[&str] = &[
    "filled = { per = ['vessel'], date = 'arrived', carry = ['tons'], linear = ['level'], limit = \
     3, mark = 'was_added' }",
    "filled = { per = ['vessel'], date = 'arrived', grain = 'month', range = 'each', zero = \
     ['tons'] }",
    "filled = { per = ['vessel'], date = 'arrived', range = '2024-10-10..2024-10-20', keep-with = \
     [], entities = 'calls.csv:vessel' }",
];

/// Chains of steps.
pub(crate) const CHAINS: &[&str] = &[
    "running = { per = ['vessel'], date = 'arrived', sum = ['tons'] }\n[[step]]\nfilter = \
     'sum_so_far_tons > 0'\n[[step]]\nlatest = { per = ['berth'], date = 'arrived', ties = 'first' }",
    "sort = ['level:down']\n[[step]]\nadd = 'n = tons + 1'\n[[step]]\nrunning = { per = \
     ['berth'], date = 'arrived', max = ['n'] }\n[[step]]\ntotals = { per = ['vessel'], max = \
     ['max_so_far_n'] }",
    "running = { per = ['berth'], date = 'arrived', count = true }\n[[step]]\nlatest = { per = \
     ['vessel'], date = 'arrived', ties = 'first' }",
    "filter = 'true'\n[[step]]\nstack = { files = ['calls.csv'] }\n[[step]]\nlatest = { per = \
     ['vessel'], date = 'arrived', ties = 'last' }\n[[step]]\nrunning = { date = 'arrived', sum = \
     ['tons'], row-by-row = true }",
    "within = { windows = 'calls.csv', match = ['vessel'], date = 'arrived', window = \
     'arrived..left' }\n[[step]]\nadd = 'n = tons + 1'\n[[step]]\nrunning = { per = ['berth'], \
     date = 'arrived', sum = ['n'], row-by-row = true }",
    "elapsed = { from = 'arrived', to = 'as-of' }\n[[step]]\nfilter = 'elapsed_days > \
     10'\n[[step]]\nspells = { date = 'arrived', value = ['berth'], per = ['vessel'] }",
];
