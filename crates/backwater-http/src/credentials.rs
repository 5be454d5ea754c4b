//! What a server wants to see before it answers: kept, and asked for again once it is refused.

use std::future::Future;
use std::pin::Pin;

use backwater::remote::http::Uri;
use backwater::remote::http::header::HeaderValue;
use tokio::sync::Mutex;

/// What credentials are wanted for.
///
/// See [`HttpTransportBuilder::credentials`](crate::HttpTransportBuilder::credentials) for an
/// example.
#[derive(Debug, Clone)]
#[non_exhaustive]
pub struct CredentialsFor {
    /// The URL of the request.
    pub url: Uri,
    /// Whether the server has refused what was given last.
    pub is_refused: bool,
}

/// Why there are none.
pub type CredentialsError = Box<dyn std::error::Error + Send + Sync>;

type Given = Pin<Box<dyn Future<Output = Result<Option<String>, CredentialsError>> + Send>>;

pub(crate) struct Credentials {
    give: Box<dyn Fn(CredentialsFor) -> Given + Send + Sync>,
    /// The last value for each host. It is locked while one is asked for, so that all who need it
    /// wait for the same.
    known: Mutex<Vec<(String, Option<HeaderValue>)>>,
}

impl Credentials {
    pub(crate) fn new<F>(give: impl Fn(CredentialsFor) -> F + Send + Sync + 'static) -> Self
    where
        F: Future<Output = Result<Option<String>, CredentialsError>> + Send + 'static,
    {
        Self { give: Box::new(move |wanted| Box::pin(give(wanted))), known: Mutex::default() }
    }

    /// The value for a request.
    pub(crate) async fn get(&self, url: &Uri) -> Result<Option<HeaderValue>, CredentialsError> {
        let mut known = self.known.lock().await;
        match known.iter().find(|(host, _)| *host == host_of(url)) {
            Some((_, value)) => Ok(value.clone()),
            None => self.ask(&mut known, url, false).await,
        }
    }

    /// Another value than the one that was refused; if somebody else has it already, that one.
    pub(crate) async fn renew(
        &self,
        url: &Uri,
        refused: &HeaderValue,
    ) -> Result<Option<HeaderValue>, CredentialsError> {
        let mut known = self.known.lock().await;
        let now = known.iter().find(|(host, _)| *host == host_of(url));
        match now {
            Some((_, Some(value))) if value != refused => Ok(Some(value.clone())),
            _ => self.ask(&mut known, url, true).await,
        }
    }

    async fn ask(
        &self,
        known: &mut Vec<(String, Option<HeaderValue>)>,
        url: &Uri,
        is_refused: bool,
    ) -> Result<Option<HeaderValue>, CredentialsError> {
        let given = (self.give)(CredentialsFor { url: url.clone(), is_refused }).await?;
        let value = given.map(|given| {
            let mut value = HeaderValue::from_str(&given)?;
            value.set_sensitive(true);
            Ok::<_, CredentialsError>(value)
        });
        let value = value.transpose()?;
        known.retain(|(host, _)| *host != host_of(url));
        known.push((host_of(url), value.clone()));
        Ok(value)
    }
}

fn host_of(url: &Uri) -> String {
    let (scheme, host) = (url.scheme_str().unwrap_or_default(), url.authority());
    format!("{scheme}://{}", host.map(|host| host.as_str()).unwrap_or_default())
}
