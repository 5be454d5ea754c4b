//! A full-screen departures board that follows a feed of live changes:
//! `cargo run -p backwater --example departures_board`.
//!
//! Where there is no terminal, it plays a few keys and all of the feed, checks what it shows, and
//! prints the last screen.

mod board;
mod draw;
mod feed;
mod tables;

use std::error::Error;
use std::io::{self, IsTerminal};
use std::time::Duration;

use board::View;
use feed::Feed;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind};

const FRAME: Duration = Duration::from_millis(200);
const PACE: Duration = Duration::from_millis(1500);

fn main() -> Result<(), Box<dyn Error>> {
    let view = View::new(tables::load()?)?;
    if io::stdout().is_terminal() { show(view) } else { play(view) }
}

/// The view on a terminal, until q is pressed.
fn show(mut view: View) -> Result<(), Box<dyn Error>> {
    let mut terminal = ratatui::init();
    let _feed = Feed::of(&view.cache)?.follow(PACE);
    let shown = run(&mut view, &mut terminal);
    ratatui::restore();
    shown
}

fn run(view: &mut View, terminal: &mut ratatui::DefaultTerminal) -> Result<(), Box<dyn Error>> {
    loop {
        view.next_frame()?;
        let mut drawn = Ok(());
        terminal.draw(|frame| drawn = draw::draw(view, frame))?;
        drawn?;
        if event::poll(FRAME)?
            && let Event::Key(key) = event::read()?
            && key.kind == KeyEventKind::Press
            && !view.key(key.code)?
        {
            return Ok(());
        }
    }
}

/// The same without a terminal: a key, a change of the feed, and so on.
fn play(mut view: View) -> Result<(), Box<dyn Error>> {
    let keys = "jj/tide".chars().map(KeyCode::Char).chain([KeyCode::Enter]);
    let (mut keys, mut feed) = (keys.fuse(), Feed::of(&view.cache)?);
    let mut terminal = Terminal::new(TestBackend::new(118, 38))?;
    while feed.step() {
        if let Some(key) = keys.next() {
            view.key(key)?;
        }
        view.next_frame()?;
        assert!(view.is_true()?, "the rows followed the deltas");
        let mut drawn = Ok(());
        terminal.draw(|frame| drawn = draw::draw(&view, frame))?;
        drawn?;
    }
    println!("{}", terminal.backend());
    Ok(())
}
