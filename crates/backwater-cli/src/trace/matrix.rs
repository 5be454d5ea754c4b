//! Queries and commits as a matrix: what was touched, what ran for nothing, what cost most.

use std::io::Write;
use std::time::Duration;

use backwater::{
    Outcome,
    scenario::{Played, PlayedQuery, PlayedStep},
};

use super::style;
use crate::output::{BOLD, DIM};

/// From little to much.
const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// Room for the totals behind the last commit.
const TOTALS: usize = 30;

pub(super) fn write(out: &mut impl Write, played: &Played) -> anyhow::Result<()> {
    let commits: Vec<&PlayedStep> =
        played.steps().iter().filter(|step| step.report.is_some()).collect();
    let width = played.queries().iter().map(|name| name.chars().count()).max().unwrap_or(0).max(6);
    // What does not fit beside each other on a terminal stands below each other.
    let room = terminal_size::terminal_size_of(std::io::stdout())
        .map_or(usize::MAX, |(columns, _)| usize::from(columns.0));
    let beside = (room.saturating_sub(width + 1 + TOTALS) / 3).max(8);
    let blocks = commits.chunks(beside).len();
    for (number, some) in commits.chunks(beside).enumerate() {
        let all = (number + 1 == blocks).then_some(commits.as_slice());
        block(out, played, width, (some, &commits), all)?;
    }
    legend(out)
}

/// Some of the commits, with the totals of all of them behind the last ones.
fn block(
    out: &mut impl Write,
    played: &Played,
    width: usize,
    (some, all): (&[&PlayedStep], &[&PlayedStep]),
    totals: Option<&[&PlayedStep]>,
) -> anyhow::Result<()> {
    let times = all.iter().flat_map(|step| step.outcomes.iter().flatten());
    let scale = Scale::of(times.filter_map(|reached| reached.took));
    write!(out, "\n{BOLD}{:width$}{BOLD:#} ", "commit")?;
    for (number, step) in some.iter().enumerate() {
        let commit = step.report.as_ref().map_or(0, |report| report.number());
        let style = if number % 2 == 0 { BOLD } else { DIM };
        write!(out, "{style}{commit:>3}{style:#}")?;
    }
    if totals.is_some() {
        write!(out, "  {BOLD}touched  in vain      time{BOLD:#}")?;
    }
    writeln!(out)?;
    for (place, name) in played.queries().iter().enumerate() {
        let of = |step: &&&PlayedStep| step.outcomes.get(place).cloned().flatten();
        write!(out, "{name:width$} ")?;
        for step in some {
            write!(out, " ")?;
            cell(out, of(&step).as_ref(), &scale)?;
        }
        if let Some(all) = totals {
            let reached: Vec<PlayedQuery> = all.iter().filter_map(|step| of(&step)).collect();
            let touched =
                reached.iter().filter(|reached| reached.outcome != Outcome::Untouched).count();
            let for_nothing =
                reached.iter().filter(|reached| reached.outcome == Outcome::Same).count();
            let time: Duration = reached.iter().filter_map(|reached| reached.took).sum();
            let nothing = if for_nothing == 0 { String::new() } else { for_nothing.to_string() };
            write!(out, "  {touched:>7}  {nothing:>7}  {:>8}", short(time))?;
        }
        writeln!(out)?;
    }
    // What each commit cost, its writes included.
    let costs = |steps: &[&PlayedStep]| -> Vec<Duration> {
        steps.iter().filter_map(|step| step.report.as_ref()?.took()).collect()
    };
    let scale = Scale::of(costs(all).into_iter());
    write!(out, "{DIM}{:width$}{DIM:#} ", "all of it")?;
    for cost in costs(some) {
        write!(out, "  {}", scale.bar(cost))?;
    }
    if let Some(all) = totals {
        write!(out, "  {:>7}  {:>7}  {:>8}", "", "", short(costs(all).iter().sum()))?;
    }
    Ok(writeln!(out)?)
}

fn cell(out: &mut impl Write, reached: Option<&PlayedQuery>, scale: &Scale) -> anyhow::Result<()> {
    let Some(reached) = reached else { return Ok(write!(out, "  ")?) };
    let style = style(reached.outcome);
    let bar = reached.took.map_or(' ', |took| scale.bar(took));
    Ok(write!(out, "{style}{}{bar}{style:#}", letter(reached.outcome))?)
}

fn letter(outcome: Outcome) -> char {
    match outcome {
        Outcome::Maintained => 'M',
        Outcome::Recomputed => 'R',
        Outcome::Same => '=',
        Outcome::Deferred => 'd',
        Outcome::Failed => '!',
        _ => '·',
    }
}

fn legend(out: &mut impl Write) -> anyhow::Result<()> {
    use Outcome as O;
    write!(out, "\n{DIM}outcome and cost:{DIM:#}  ")?;
    let key = [
        (O::Maintained, "maintained by a delta"),
        (O::Recomputed, "recomputed"),
        (O::Same, "in vain: the same"),
        (O::Deferred, "deferred"),
        (O::Failed, "failed"),
        (O::Untouched, "untouched"),
    ];
    for (outcome, text) in key {
        let style = style(outcome);
        write!(out, "{style}{}{style:#} {DIM}{text}{DIM:#}  ", letter(outcome))?;
    }
    Ok(writeln!(out)?)
}

/// Bars for times, up to the longest: each as high as the root of its share of that.
struct Scale {
    most: f64,
}

impl Scale {
    fn of(times: impl Iterator<Item = Duration>) -> Self {
        Self { most: times.map(|time| time.as_secs_f64()).fold(1e-9, f64::max) }
    }

    fn bar(&self, time: Duration) -> char {
        let last = BARS.len() - 1;
        let height = (time.as_secs_f64() / self.most).sqrt() * last as f64;
        BARS[(height.round() as usize).min(last)]
    }
}

/// A time in three digits or so.
pub(super) fn short(time: Duration) -> String {
    let micros = time.as_secs_f64() * 1e6;
    match micros {
        _ if micros < 10.0 => format!("{micros:.1} us"),
        _ if micros < 1000.0 => format!("{micros:.0} us"),
        _ if micros < 1e6 => format!("{:.1} ms", micros / 1e3),
        _ => format!("{:.1} s", micros / 1e6),
    }
}
