//! `backwater infer`: a schema proposed from responses and recordings.

use std::io::Write;
use std::path::PathBuf;

use anstream::eprintln;
use backwater::{Request, infer::Samples, recording::Recording};

use crate::failure::wrong_call;
use crate::files;

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The URL that the response came from, or its path and query; without one the rule is called
    /// after the file
    #[arg(long, value_name = "URL")]
    url: Option<String>,
    /// The HTTP method of the request
    #[arg(long, value_name = "METHOD", default_value = "GET", requires = "url")]
    method: String,
    /// JSON responses and recordings of a browser's session (HAR), `-` for standard input
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    if arguments.url.is_some() && arguments.files.len() > 1 {
        return Err(wrong_call(anyhow::anyhow!("a URL is that of one response; name one file")));
    }
    let mut samples = Samples::new();
    for file in &arguments.files {
        let (name, bytes) = (files::name(file), files::read(file)?);
        if Recording::looks_like_one(&bytes) {
            if arguments.url.is_some() {
                return Err(wrong_call(anyhow::anyhow!(
                    "{name} is a recording, which has the URLs of its responses; leave out --url"
                )));
            }
            let recording = Recording::parse(&bytes).map_err(|error| error.at(&name))?;
            drop(bytes);
            for problem in samples.add_recording(&recording) {
                eprintln!("left out: {}", problem.at(&name));
            }
            continue;
        }
        let request = match &arguments.url {
            Some(url) => Request::new(&arguments.method, url),
            None => Request::rule(files::rule_of(file)),
        };
        samples.add(request, &*bytes).map_err(|error| error.at(&name))?;
    }
    if samples.is_empty() {
        anyhow::bail!("there is no JSON response in {}", texts(&arguments.files));
    }
    let proposal = samples.propose();
    for refused in proposal.refused() {
        eprintln!("kept as json: {refused}");
    }
    anstream::stdout().write_all(proposal.text().as_bytes())?;
    eprintln!("\n{}", proposal.account().trim_end());
    Ok(())
}

fn texts(names: &[PathBuf]) -> String {
    names.iter().map(|file| files::name(file)).collect::<Vec<_>>().join(", ")
}
