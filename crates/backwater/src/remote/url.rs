//! From a rule's template and the values of its variables to a URL.

use iri_string::spec::UriSpec;
use iri_string::template::UriTemplateStr;
use iri_string::template::simple_context::SimpleContext;

use crate::error::{Error, ErrorKind, Result};

/// A URL that paths can be put behind: with a scheme and a host, without a query.
pub(super) fn check_base(base: &str) -> Result<()> {
    let is_url = base
        .parse::<http::Uri>()
        .is_ok_and(|uri| uri.scheme().is_some() && uri.host().is_some_and(|host| !host.is_empty()));
    if is_url && !base.contains(['?', '#']) {
        return Ok(());
    }
    Err(Error::new(ErrorKind::Schema, format!("found {base:?}, expected a base URL"))
        .help("give one such as https://ferries.example/api, without a query, by `base`"))
}

/// The URL of a request (RFC 6570); a template without a scheme is put behind the base.
pub(super) fn expand(base: &str, template: &str, values: &[(String, String)]) -> Result<String> {
    let wrong = |message: String| Error::new(ErrorKind::Parameter, message);
    let mut context = SimpleContext::new();
    for (name, value) in values {
        context.insert(name.as_str(), value.as_str());
    }
    let parsed = UriTemplateStr::new(template)
        .map_err(|error| wrong(format!("{template} cannot be expanded: {error}")))?;
    let url = parsed
        .expand::<UriSpec, _>(&context)
        .map_err(|error| wrong(format!("{template} cannot be expanded: {error}")))?
        .to_string();
    // Judged by the rule's template: a variable's value must not choose the host.
    if has_scheme(template) {
        return Ok(url);
    }
    let slash = if url.is_empty() || url.starts_with(['/', '?']) { "" } else { "/" };
    Ok(format!("{}{slash}{url}", base.trim_end_matches('/')))
}

fn has_scheme(template: &str) -> bool {
    template.split_once("://").is_some_and(|(scheme, _)| {
        scheme.starts_with(|first: char| first.is_ascii_alphabetic())
            && scheme.chars().all(|c| c.is_ascii_alphanumeric() || "+-.".contains(c))
    })
}
