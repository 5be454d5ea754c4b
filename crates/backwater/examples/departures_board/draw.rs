//! How the view looks.

use backwater::{DeltaKind, Outcome, Timestamp, error::Result};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style, Stylize};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, BorderType, Cell, Padding, Paragraph, Row, Table};

use crate::board::{Shown, View};
use crate::tables::{Port, Status};

const QUIET: Color = Color::Rgb(120, 132, 148);
const TITLE: Color = Color::Rgb(126, 200, 227);
const SELECTED: Color = Color::Rgb(38, 50, 66);
const ENTERS: Color = Color::Rgb(24, 84, 56);
const CHANGES: Color = Color::Rgb(104, 80, 16);
const LEAVES: Color = Color::Rgb(96, 36, 40);

pub(crate) fn draw(view: &View, frame: &mut Frame<'_>) -> Result<()> {
    let rows = Layout::vertical([
        Constraint::Length(2),
        Constraint::Min(8),
        Constraint::Length(10),
        Constraint::Length(1),
    ]);
    let [head, middle, log, foot] = rows.areas(frame.area());
    let [list, detail] =
        Layout::horizontal([Constraint::Fill(3), Constraint::Fill(2)]).areas(middle);
    self::head(view, frame, head)?;
    self::list(view, frame, list)?;
    self::detail(view, frame, detail)?;
    self::log(view, frame, log);
    self::foot(view, frame, foot);
    Ok(())
}

fn block(title: &str) -> Block<'_> {
    Block::bordered()
        .border_type(BorderType::Rounded)
        .border_style(QUIET)
        .title(Span::styled(format!(" {title} "), Style::new().fg(TITLE).bold()))
        .padding(Padding::horizontal(1))
}

/// The time of day on the islands, which is two hours ahead of UTC.
fn clock(time: Timestamp) -> String {
    let minutes = time.as_micros().div_euclid(60_000_000) + 120;
    format!("{:02}:{:02}", minutes.div_euclid(60).rem_euclid(24), minutes.rem_euclid(60))
}

fn color(status: Status) -> Color {
    match status {
        Status::OnTime => Color::Rgb(126, 211, 138),
        Status::Boarding => Color::Rgb(126, 200, 227),
        Status::Delayed => Color::Rgb(240, 190, 90),
        Status::Departed => QUIET,
        Status::Cancelled => Color::Rgb(240, 120, 110),
    }
}

fn reported(status: Status) -> &'static str {
    match status {
        Status::OnTime => "on time",
        Status::Boarding => "boarding",
        Status::Delayed => "delayed",
        Status::Departed => "departed",
        Status::Cancelled => "cancelled",
    }
}

/// The port, the time, how many sailings there are of each status, and the keys.
fn head(view: &View, frame: &mut Frame<'_>, area: Rect) -> Result<()> {
    let (board, snapshot) = (view.board()?, view.cache.snapshot());
    let ports = snapshot.table::<Port>()?;
    let port = board.port.and_then(|port| ports.get(&port).here()).map(|port: Port| port.name);
    let mut line = vec![
        Span::from(" Departures from ").fg(QUIET),
        Span::from(port.unwrap_or_default()).bold(),
        Span::from(format!("   {}   ", clock(board.now))).fg(TITLE).bold(),
    ];
    let mut cars = 0;
    for (status, sailings, booked) in view.statuses.rows()? {
        line.push(Span::from(format!("{sailings} ")).fg(color(status)).bold());
        line.push(Span::from(format!("{}   ", reported(status))).fg(color(status)));
        cars += booked;
    }
    line.push(Span::from(format!("{cars} cars booked today")).fg(QUIET));
    let keys = " up down  select     /  search     Tab  next port     Esc  all again     q  quit";
    let lines = vec![Line::from(line), Line::from(keys).fg(QUIET)];
    frame.render_widget(Paragraph::new(lines), area);
    Ok(())
}

fn list(view: &View, frame: &mut Frame<'_>, area: Rect) -> Result<()> {
    let board = view.board()?;
    let search = match (view.is_typing, &*board.search) {
        (false, "") => "Sailings".to_owned(),
        (typing, text) => format!("Sailings with \"{text}{}\"", if typing { "_" } else { "" }),
    };
    let widths = [5, 7, 14, 13, 17, 8].map(Constraint::Length);
    let heads = Row::new(["id", "departs", "to", "vessel", "status", "places"]).fg(QUIET);
    // Rows that left stand where they stood until they fade.
    let mut rows: Vec<&Shown> = view.rows.iter().collect();
    let mut left: Vec<_> = view.left.iter().collect();
    left.sort_by_key(|(at, _)| *at);
    for (before, (at, gone)) in left.into_iter().enumerate() {
        rows.insert((at + before).min(rows.len()), gone);
    }
    let count = view.rows.len();
    let rows = rows.into_iter().map(|shown| {
        let is_selected = board.selected.as_ref() == Some(&shown.departure.id.into());
        line(shown, if is_selected { Style::new().bg(SELECTED) } else { Style::new() })
    });
    let block = block(&search).title_bottom(Line::from(format!(" {count} shown ")).fg(QUIET));
    frame
        .render_widget(Table::new(rows, widths).header(heads).column_spacing(2).block(block), area);
    Ok(())
}

fn line(shown: &Shown, otherwise: Style) -> Row<'static> {
    let (departure, flash) = (&shown.departure, shown.flash.as_ref());
    let whole = match flash.map(|flash| flash.kind) {
        Some(DeltaKind::Enter) => Style::new().bg(ENTERS),
        Some(DeltaKind::Leave) => Style::new().bg(LEAVES).add_modifier(Modifier::CROSSED_OUT),
        _ => otherwise,
    };
    let flash_of = |columns: &[&str]| match flash {
        Some(flash) if columns.iter().any(|column| flash.columns.iter().any(|of| of == column)) => {
            Style::new().bg(CHANGES)
        }
        _ => Style::new(),
    };
    let status = departure.status.map_or("?", reported);
    let late = departure.delay_min.filter(|minutes| *minutes > 0);
    let late = late.map(|minutes| format!(" +{minutes} min")).unwrap_or_default();
    let places = departure.places;
    let is_full = places.is_some_and(|places| places < 5);
    let text = |text: &Option<String>| text.clone().unwrap_or_else(|| "not known".to_owned());
    Row::new([
        Cell::from(departure.id.to_string()).style(flash_of(&["id"]).fg(QUIET)),
        Cell::from(clock(departure.departs_at)).style(flash_of(&["departs_at"]).bold()),
        Cell::from(text(&departure.destination)).style(flash_of(&["destination"])),
        Cell::from(text(&departure.vessel)).style(flash_of(&["vessel"])),
        Cell::from(format!("{status}{late}"))
            .style(flash_of(&["status", "delay_min"]).fg(departure.status.map_or(QUIET, color))),
        Cell::from(places.map_or_else(|| "-".to_owned(), |places| format!("{places:>4}"))).style(
            flash_of(&["places"]).fg(if is_full { color(Status::Delayed) } else { Color::Reset }),
        ),
    ])
    .style(whole)
}

/// The selected sailing: its fields, its bookings, and which commits wrote them.
fn detail(view: &View, frame: &mut Frame<'_>, area: Rect) -> Result<()> {
    let detail = view.detail.get()?;
    let Some(detail) = detail.as_ref() else {
        let text = "Press the arrow keys to select a sailing.";
        frame.render_widget(Paragraph::new(text).fg(QUIET).block(block("Selected")), area);
        return Ok(());
    };
    let named = |name: &str, value: String| {
        Line::from(vec![Span::from(format!("{name:11}")).fg(QUIET), Span::from(value)])
    };
    let status = detail.status.map_or("", reported);
    let (booked, most) = detail.booked;
    let mut lines = vec![
        named("departs", clock(detail.departs_at)),
        named("arrives", clock(detail.arrives_at)),
        named("status", status.to_owned()).fg(detail.status.map_or(QUIET, color)),
        named("vessel", detail.vessel.clone()),
        named("cars", format!("{booked} of {most} booked")),
    ];
    lines.extend(detail.note.iter().map(|note| named("note", note.clone())));
    let bookings = view.bookings.rows()?;
    lines.push(Line::default());
    lines.push(Line::from(format!("bookings loaded: {}", bookings.len())).fg(QUIET));
    lines.extend(bookings.into_iter().map(|(party, cars, paid)| {
        let unpaid =
            if paid { Span::default() } else { Span::from("  unpaid").fg(color(Status::Delayed)) };
        Line::from(vec![Span::from(format!("{cars:>2}  {party}")), unpaid])
    }));
    let selected = view.board()?.selected;
    if let Some(selected) = selected {
        let origins = view.cache.origins("sailing", selected)?;
        let wrote = origins.iter().filter_map(|of| Some((&of.field, of.commit.as_ref()?)));
        let wrote = wrote
            .filter(|(_, (number, _))| *number > 1)
            .map(|(field, commit)| named(field, format!(" {}, commit {}", commit.1, commit.0)));
        let wrote: Vec<Line<'_>> = wrote.collect();
        if !wrote.is_empty() {
            lines.extend([Line::default(), Line::from("What changed it last").fg(QUIET)]);
            lines.extend(wrote);
        }
    }
    frame.render_widget(Paragraph::new(lines).block(block(&detail.title)), area);
    Ok(())
}

/// The last commits, the newest first.
fn log(view: &View, frame: &mut Frame<'_>, area: Rect) {
    let lines = view.commits().take(usize::from(area.height.saturating_sub(2))).map(|report| {
        let rows = report.changes().count();
        let first = report.changes().next().map(|change| change.to_string()).unwrap_or_default();
        let more = if rows > 1 { format!(" and {} more", rows - 1) } else { String::new() };
        Line::from(vec![
            Span::from(format!("{:>4}  ", report.number())).fg(QUIET),
            Span::from(format!("{:30}", report.label())),
            Span::from(format!("{first}{more}")).fg(QUIET),
        ])
    });
    frame.render_widget(Paragraph::new(lines.collect::<Vec<_>>()).block(block("Commits")), area);
}

/// What the last commit touched.
fn foot(view: &View, frame: &mut Frame<'_>, area: Rect) {
    let mut touched = Vec::new();
    if let Some(report) = view.commits().next() {
        touched.push(Span::from(format!(" commit {} ", report.number())).bold());
        if let Some(took) = report.took() {
            touched
                .push(Span::from(format!("took {} µs and reached ", took.as_micros())).fg(QUIET));
        }
        let mut reached = 0;
        for query in report.reached() {
            let (name, outcome) = (query.name(), query.outcome());
            let rows = query.delta().map_or(0, |delta| delta.rows().count());
            let moved = if rows > 0 { format!(" {rows}") } else { String::new() };
            let color = match outcome {
                Outcome::Maintained => color(Status::OnTime),
                Outcome::Failed => color(Status::Cancelled),
                _ => QUIET,
            };
            touched.push(Span::from(format!("{name} ")));
            touched.push(Span::from(format!("({}{moved})  ", outcome)).fg(color));
            reached += 1;
        }
        touched.push(Span::from(if reached == 0 { "no query" } else { "" }.to_owned()).fg(QUIET));
    }
    frame.render_widget(Line::from(touched), area);
}
