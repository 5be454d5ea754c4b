//! `backwater serve`: a stand-in server on this machine.

use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use backwater::recording::Recording;
use backwater::remote::Playback;
use backwater::remote::http::{Request, Response};
use backwater_serve::{Answers, Events, Faults, Ferries, Sent, start};

use crate::failure::wrong_call;
use crate::files;
use crate::output::{BOLD, DIM, count};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// A recording of a browser's session (HAR), which is played by method and URL; without one the
    /// made-up API of the Saltmere ferries is served
    #[arg(value_name = "RECORDING")]
    recording: Option<PathBuf>,
    /// The port; 0 takes a free one
    #[arg(long, value_name = "PORT", default_value_t = 8031)]
    port: u16,
    /// How long a response takes, give or take one half, such as 200ms or 2s
    #[arg(long, value_name = "TIME", default_value = "0ms", value_parser = time)]
    delay: Duration,
    /// The share of requests that are answered with status 503, from 0 to 1
    #[arg(long, value_name = "SHARE", default_value_t = 0.0, value_parser = share)]
    fail: f64,
    /// The share of requests whose connection is cut before the response is whole, from 0 to 1
    #[arg(long, value_name = "SHARE", default_value_t = 0.0, value_parser = share)]
    lose: f64,
    /// The share of a feed's events at which its connection is cut, from 0 to 1
    #[arg(long, value_name = "SHARE", default_value_t = 0.0, value_parser = share)]
    cut: f64,
    /// Where the random choices of what fails begin
    #[arg(long, value_name = "NUMBER", default_value_t = 0)]
    seed: u64,
    /// Print no line for each request
    #[arg(long)]
    quiet: bool,
}

fn time(text: &str) -> Result<Duration, String> {
    let letters = text.find(|letter: char| letter.is_ascii_alphabetic()).unwrap_or(text.len());
    let (number, unit) = text.split_at(letters);
    let number: f64 =
        number.parse().map_err(|_| "expected a time such as 200ms or 2s".to_owned())?;
    let seconds = match unit {
        "ms" => number / 1000.0,
        "s" => number,
        _ => return Err("expected a time such as 200ms or 2s".to_owned()),
    };
    Duration::try_from_secs_f64(seconds).map_err(|error| error.to_string())
}

fn share(text: &str) -> Result<f64, String> {
    let share = text.parse::<f64>().ok().filter(|share| (0.0..=1.0).contains(share));
    share.ok_or_else(|| "expected a number from 0 to 1".to_owned())
}

/// The requests that the ferries' API has, as far as they are said here.
const FERRIES: [&str; 12] = [
    "GET    /departures{?port,page}",
    "GET    /sailings/{id}",
    "PATCH  /sailings/{id}             status, delay_min, note",
    "GET    /sailings/{id}/bookings",
    "POST   /sailings/{id}/bookings    party, cars",
    "DELETE /bookings/{id}",
    "GET    /fleet",
    "GET    /vessels/{id}  /vessels{?ids*}",
    "GET    /ports",
    "GET    /feed                      server-sent events",
    "GET    /feed.ndjson{?since}       the same, a JSON object a line",
    "GET    /live{?since}              the same over a WebSocket",
];

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    if arguments.fail + arguments.lose > 1.0 {
        return Err(wrong_call(anyhow::anyhow!("--fail and --lose are more than all requests")));
    }
    let (what, requests, answers): (_, Vec<String>, Arc<dyn Answers>) = match &arguments.recording {
        None => {
            let requests = FERRIES.map(str::to_owned).to_vec();
            ("The Saltmere ferries".to_owned(), requests, Arc::new(Ferries::new()))
        }
        Some(file) => {
            let name = files::name(file);
            let recording =
                Recording::parse(files::read(file)?).map_err(|error| error.at(&name))?;
            let playback = Playback::new(recording);
            let requests = playback.requests();
            (name, requests, Arc::new(playback))
        }
    };
    let faults = Faults {
        delay: arguments.delay,
        fail: arguments.fail,
        lose: arguments.lose,
        cut: arguments.cut,
        seed: arguments.seed,
    };
    let answers: Arc<dyn Answers> = match arguments.quiet {
        true => answers,
        false => Arc::new(Logged(answers)),
    };
    let server = start(answers, faults, arguments.port).map_err(|error| {
        let help = "is another server running? name another port with --port, or 0 for a free one";
        anyhow::anyhow!("port {}: {error}; {help}", arguments.port)
    })?;
    say!("{BOLD}{what}{BOLD:#} on {BOLD}{}{BOLD:#}, until Ctrl-C", server.url());
    for request in &requests {
        say!("  {DIM}{request}{DIM:#}");
    }
    say!("Try: curl -i '{}{}'", server.url(), first_path(&requests));
    server.wait();
    Ok(())
}

fn first_path(requests: &[String]) -> String {
    let gets = requests.iter().filter_map(|request| request.strip_prefix("GET "));
    let path = gets.map(str::trim).next().unwrap_or("/");
    path.split('{').next().unwrap_or(path).to_owned()
}

/// Prints a line for each request.
struct Logged(Arc<dyn Answers>);

impl Answers for Logged {
    fn answer(&self, request: &Request<Vec<u8>>) -> Response<Vec<u8>> {
        self.0.answer(request)
    }

    fn note(&self, request: &Request<Vec<u8>>, sent: Sent) {
        let (colour, status, what) = match sent {
            Sent::Response(304, _) => (AnsiColor::Cyan, "304", "not modified".to_owned()),
            Sent::Response(status @ 200..300, bytes) => {
                (AnsiColor::Green, &*status.to_string(), count(bytes, "byte"))
            }
            Sent::Response(status, bytes) => {
                (AnsiColor::Red, &*status.to_string(), count(bytes, "byte"))
            }
            Sent::Failure => (AnsiColor::Yellow, "503", "failed on purpose".to_owned()),
            _ => (AnsiColor::Yellow, "cut", "lost on purpose".to_owned()),
        };
        let style = Style::new().fg_color(Some(colour.into()));
        let line = format!("{style}{status}{style:#} {:6} {}", request.method(), request.uri());
        // Nobody may read any longer, and the server goes on.
        let _printed = writeln!(anstream::stdout(), "{line}  {DIM}{what}{DIM:#}");
    }

    fn follow(&self, request: &Request<Vec<u8>>) -> Option<Events> {
        self.0.follow(request)
    }
}
