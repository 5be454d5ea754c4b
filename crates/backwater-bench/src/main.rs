//! Figures for Backwater against baselines, all in one run: `cargo run --release -p backwater-bench`.

mod bindings;
mod commit;
mod feeds;
mod hand;
mod ingest;
mod measure;
mod persist;
mod query;
mod rebind;
mod recordings;
mod remote;
mod sends;
mod soak;
mod tree;
mod typed;
mod window;
mod world;

use clap::Parser;
use measure::Figure;
use peak_alloc::PeakAlloc;

#[global_allocator]
static ALLOC: PeakAlloc = PeakAlloc;

/// Compares Backwater with baselines written by hand. A ratio is ours ÷ baseline.
#[derive(Parser)]
struct Arguments {
    /// Print one JSON object a line
    #[arg(long)]
    json: bool,
    /// Only the cases whose names begin so
    #[arg(long, value_name = "PREFIX", default_value = "")]
    only: String,
    /// How many sailings there are
    #[arg(long, default_value_t = 200_000)]
    size: usize,
    /// How often each side runs at most
    #[arg(long, value_name = "TIMES", default_value_t = usize::MAX, hide_default_value = true)]
    runs: usize,
}

type Case = fn(usize) -> anyhow::Result<Vec<Figure>>;

/// The names that a case gives figures for, and the case.
const CASES: [(&[&str], Case); 39] = [
    (&["ingest/nested", "ingest/nested-vs-value"], ingest::nested),
    (&["ingest/again"], ingest::again),
    (&["ingest/small"], ingest::small),
    (&["ingest/growth"], ingest::growth),
    (&["memory/table", "memory/peak"], |size| ingest::memory(size, &ALLOC)),
    (&["infer/recording", "infer/propose"], recordings::many),
    (&["infer/memory"], |size| recordings::memory(size, &ALLOC)),
    (&["query/cold-group", "query/cold-group-sql"], query::cold_group),
    (&["query/cold-join"], query::cold_join),
    (&["commit/one-field", "commit/one-field-sql"], commit::one_field),
    (&["commit/flat"], commit::flat),
    (&["commit/rows"], commit::rows),
    (&["commit/bulk"], commit::bulk),
    (&["commit/bulk-over"], commit::bulk_over_groups),
    (&["commit/join-fanout"], commit::join_fanout),
    (&["commit/forms-range", "commit/forms-list"], bindings::forms),
    (&["commit/tail"], bindings::tail),
    (&["query/define"], bindings::define),
    (&["window/rank"], window::rank),
    (&["tree/grow", "tree/move"], tree::tree),
    (&["search/letters"], rebind::letters),
    (&["rebind/now"], rebind::now),
    (&["rebind/back"], rebind::back),
    (&["read/get", "read/iter"], typed::read),
    (&["derived/untouched", "derived/key"], typed::of_derived),
    (&["watch/fan"], typed::fan),
    (&["snapshot/take"], typed::snapshot),
    (&["rehydrate/all", "start", "persist/file-size"], persist::rehydrate),
    (&["persist/first-write"], persist::first_write),
    (&["persist/commit", "persist/sustained"], persist::commits),
    (&["remote/ask-fresh", "remote/shared"], remote::asks),
    (&["remote/answer"], remote::answer),
    (&["remote/idle"], remote::idle),
    (&["remote/memory"], |size| remote::memory(size, &ALLOC)),
    (&["overlay/none", "overlay/some"], sends::overlay),
    (&["send/shown"], sends::shown),
    (&["feed/events", "feed/merge"], feeds::events_and_bursts),
    (&["soak/memory", "soak/slowest"], |size| soak::soak(size, &ALLOC)),
    (&["memory/query", "memory/standing"], |size| query::memory(size, &ALLOC)),
];

fn main() -> anyhow::Result<()> {
    if persist::child()? {
        return Ok(());
    }
    let arguments = Arguments::parse();
    measure::limit_runs(arguments.runs.max(1));
    let wanted = |name: &str| name.starts_with(&arguments.only);
    if !arguments.json {
        println!(
            "{:24} {:>9} {:>12} {:>12} {:>7} {:>8}  baseline",
            "case", "size", "ours", "baseline", "ratio", "at most"
        );
    }
    for (names, case) in CASES {
        if !names.iter().any(|name| wanted(name)) {
            continue;
        }
        for figure in case(arguments.size.max(1))?.iter().filter(|figure| wanted(figure.case)) {
            println!("{}", if arguments.json { json(figure) } else { line(figure) });
        }
    }
    Ok(())
}

fn line(figure: &Figure) -> String {
    let text = |number: f64| match figure.unit {
        "bytes" => format!("{number:.0} B"),
        "x" => format!("{number:.2} x"),
        _ if number < 1e-3 => format!("{:.2} us", number * 1e6),
        _ => format!("{:.1} ms", number * 1e3),
    };
    format!(
        "{:24} {:>9} {:>12} {:>12} {:>7.2} {:>8.2}  {}",
        figure.case,
        figure.size,
        text(figure.ours),
        text(figure.baseline),
        figure.ratio(),
        figure.at_most,
        figure.baseline_name,
    )
}

fn json(figure: &Figure) -> String {
    let unit = match figure.unit {
        "bytes" => "bytes",
        "x" => "growth",
        _ => "s",
    };
    format!(
        "{{\"case\":\"{}\",\"size\":{},\"ours_{unit}\":{:e},\"baseline\":\"{}\",\"baseline_{unit}\":{:e},\"ratio\":{:.4},\"at_most\":{}}}",
        figure.case,
        figure.size,
        figure.ours,
        figure.baseline_name,
        figure.baseline,
        figure.ratio(),
        figure.at_most,
    )
}
