//! What a server wants to see before it answers: kept, and asked for again once it is refused.

use std::future::Future;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};

use backwater::remote::http::Uri;
use backwater::remote::http::header::HeaderValue;
use tokio::sync::{Mutex, MutexGuard};

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
    known: Mutex<Known>,
    /// How often they were forgotten.
    forgotten: AtomicU64,
}

#[derive(Default)]
struct Known {
    /// How often credentials had been forgotten when these were given.
    forgotten: u64,
    by_host: Vec<(String, Option<HeaderValue>)>,
}

impl Credentials {
    pub(crate) fn new<F>(give: impl Fn(CredentialsFor) -> F + Send + Sync + 'static) -> Self
    where
        F: Future<Output = Result<Option<String>, CredentialsError>> + Send + 'static,
    {
        let (known, forgotten) = Default::default();
        Self { give: Box::new(move |of| Box::pin(give(of))), known, forgotten }
    }

    /// From now on they are asked for anew.
    pub(crate) fn forget(&self) {
        self.forgotten.fetch_add(1, Ordering::SeqCst);
    }

    /// What is known, without what was forgotten meanwhile.
    async fn known(&self) -> MutexGuard<'_, Known> {
        let mut known = self.known.lock().await;
        let forgotten = self.forgotten.load(Ordering::SeqCst);
        if known.forgotten != forgotten {
            *known = Known { forgotten, by_host: Vec::new() };
        }
        known
    }

    /// The value for a request.
    pub(crate) async fn get(&self, url: &Uri) -> Result<Option<HeaderValue>, CredentialsError> {
        let mut known = self.known().await;
        match known.by_host.iter().find(|(host, _)| *host == host_of(url)) {
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
        let mut known = self.known().await;
        let now = known.by_host.iter().find(|(host, _)| *host == host_of(url));
        match now {
            Some((_, Some(value))) if value != refused => Ok(Some(value.clone())),
            _ => self.ask(&mut known, url, true).await,
        }
    }

    async fn ask(
        &self,
        known: &mut Known,
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
        known.by_host.retain(|(host, _)| *host != host_of(url));
        known.by_host.push((host_of(url), value.clone()));
        Ok(value)
    }
}

fn host_of(url: &Uri) -> String {
    let (scheme, host) = (url.scheme_str().unwrap_or_default(), url.authority());
    format!("{scheme}://{}", host.map(|host| host.as_str()).unwrap_or_default())
}
