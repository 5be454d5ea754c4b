//! `backwater infer`: a schema proposed from responses and recordings.

use std::io::Write;
use std::path::{Path, PathBuf};

use anstream::eprintln;
use backwater::infer::{Proposal, Samples};
use backwater::{Request, recording::Recording};

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
    /// Adds to this schema what it lacks, in place; what it says stays, comments too
    #[arg(long, value_name = "SCHEMA")]
    update: Option<PathBuf>,
    /// Prints the updated schema, and leaves the file as it is
    #[arg(long, requires = "update")]
    dry_run: bool,
    /// JSON responses and recordings of a browser's session (HAR), `-` for standard input
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
}

pub(crate) fn run(arguments: &Arguments) -> anyhow::Result<()> {
    if arguments.url.is_some() && arguments.files.len() > 1 {
        return Err(wrong_call(anyhow::anyhow!("a URL is that of one response; name one file")));
    }
    let mut samples = Samples::new();
    let folders = arguments.files.iter().map(|file| file.parent()?.file_name()?.to_str());
    // Files of one folder that are of one kind are called after it.
    if let Some(Some(folder)) = folders.clone().next()
        && folders.clone().all(|other| other == Some(folder))
    {
        samples.call_alike(folder);
    }
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
    if let Some(schema) = &arguments.update {
        return update(&samples, schema, arguments.dry_run || files::is_stdin(schema));
    }
    let proposal = samples.propose();
    for refused in proposal.refused() {
        eprintln!("kept as json: {refused}");
    }
    anstream::stdout().write_all(proposal.text().as_bytes())?;
    eprintln!("\n{}", proposal.account().trim_end());
    Ok(())
}

/// Adds to a schema, and says what, and what speaks against it.
fn update(samples: &Samples, schema: &Path, dry_run: bool) -> anyhow::Result<()> {
    let name = files::name(schema);
    let bytes = files::read(schema)?;
    let text = std::str::from_utf8(&bytes)
        .map_err(|_| anyhow::anyhow!("{name}: it is not UTF-8; save it as UTF-8"))?;
    let update = samples.update(&name, text)?;
    if dry_run {
        anstream::stdout().write_all(update.text().as_bytes())?;
    } else if update.added().next().is_some() {
        files::replace(schema, update.text().as_bytes())?;
    }
    say(&update, &name);
    Ok(())
}

fn say(update: &Proposal, name: &str) {
    match update.added().count() {
        0 => eprintln!("Nothing to add to {name}."),
        _ => eprintln!("Added to {name}:"),
    }
    update.added().for_each(|added| eprintln!("  {added}"));
    if update.against().next().is_some() {
        eprintln!("What speaks against the schema, which is left as it is:");
    }
    update.against().for_each(|against| eprintln!("  {against}"));
    eprintln!("{}", update.account().trim_end());
}

fn texts(names: &[PathBuf]) -> String {
    names.iter().map(|file| files::name(file)).collect::<Vec<_>>().join(", ")
}
