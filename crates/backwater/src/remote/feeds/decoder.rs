//! From the bytes of a feed to its events: server-sent events, or one JSON value a line.

use std::borrow::Cow;
use std::time::Duration;

/// Reads a feed's bytes as they come, wherever they are cut.
#[derive(Default)]
pub(super) struct Decoder {
    /// The beginning of a line whose end has not come.
    rest: Vec<u8>,
    /// Whether a line has been read, so that no byte order mark follows.
    is_begun: bool,
    /// Whether the last byte was a carriage return, to which a line feed may belong.
    after_return: bool,
    event: EventSoFar,
    /// How long the server asks to wait before connecting again.
    pub(super) retry: Option<Duration>,
}

/// An event whose end has not come.
#[derive(Default)]
struct EventSoFar {
    name: String,
    data: String,
    has_data: bool,
    /// The last event's id, which stays until another one is given.
    id: String,
}

/// An event as the feed has it.
pub(super) struct RawEvent<'d> {
    /// Its name; `message` if it has none.
    pub(super) name: &'d str,
    pub(super) data: &'d str,
    pub(super) id: &'d str,
}

/// Bytes as text; what is not UTF-8 is replaced.
fn text_of(bytes: &[u8]) -> Cow<'_, str> {
    // Mostly all is, and then this is faster.
    std::str::from_utf8(bytes).map_or_else(|_| String::from_utf8_lossy(bytes), Cow::Borrowed)
}

/// An event, or a line, is longer than may be.
#[derive(Debug, PartialEq)]
pub(super) struct TooLong;

impl Decoder {
    /// One that goes on behind the event of that id.
    pub(super) fn behind(id: &str) -> Self {
        let event = EventSoFar { id: id.to_owned(), ..EventSoFar::default() };
        Self { event, ..Self::default() }
    }

    /// Reads server-sent events (HTML, section 9.2.6). What is not UTF-8 is replaced, as the
    /// standard has it.
    pub(super) fn events(
        &mut self,
        bytes: &[u8],
        most: usize,
        mut found: impl FnMut(RawEvent<'_>),
    ) -> Result<(), TooLong> {
        let mut bytes = bytes;
        if let (true, [first, others @ ..]) = (self.after_return, bytes) {
            self.after_return = false;
            bytes = if *first == b'\n' { others } else { bytes };
        }
        // Mostly all of it is text; then it is looked through once, and not line by line.
        let (all, text) = (bytes.len(), std::str::from_utf8(bytes).ok());
        while let Some(end) = memchr::memchr2(b'\r', b'\n', bytes) {
            let (start, (line, others)) = (all - bytes.len(), bytes.split_at(end));
            bytes = match others {
                [b'\r', b'\n', others @ ..] => others,
                [ended, others @ ..] => {
                    self.after_return = *ended == b'\r' && others.is_empty();
                    others
                }
                [] => others,
            };
            let of_text = text.and_then(|text| text.get(start..start + end));
            let line = match of_text.filter(|_| self.rest.is_empty()) {
                Some(line) => Cow::Borrowed(line),
                None => Cow::Owned(text_of(&self.whole(line)).into_owned()),
            };
            let line = match std::mem::replace(&mut self.is_begun, true) {
                true => &*line,
                false => line.strip_prefix('\u{feff}').unwrap_or(&line),
            };
            self.line(line, &mut found);
            if self.event.data.len() > most {
                return Err(TooLong);
            }
        }
        self.keep(bytes, most)
    }

    /// Reads one value a line; empty lines keep a connection alive.
    pub(super) fn lines(
        &mut self,
        bytes: &[u8],
        most: usize,
        mut found: impl FnMut(RawEvent<'_>),
    ) -> Result<(), TooLong> {
        let mut bytes = bytes;
        while let Some(end) = memchr::memchr(b'\n', bytes) {
            let line = &bytes[..end];
            bytes = &bytes[end + 1..];
            let whole = self.whole(line);
            let text = text_of(&whole);
            let data = text.trim();
            if !data.is_empty() {
                found(RawEvent { name: "message", data, id: "" });
            }
        }
        self.keep(bytes, most)
    }

    /// The line that ends with these bytes.
    fn whole<'l>(&mut self, end: &'l [u8]) -> Cow<'l, [u8]> {
        if self.rest.is_empty() {
            return Cow::Borrowed(end);
        }
        let mut whole = std::mem::take(&mut self.rest);
        whole.extend_from_slice(end);
        Cow::Owned(whole)
    }

    /// Keeps what may be the beginning of a line.
    fn keep(&mut self, bytes: &[u8], most: usize) -> Result<(), TooLong> {
        if self.rest.len() + bytes.len() > most {
            return Err(TooLong);
        }
        self.rest.extend_from_slice(bytes);
        Ok(())
    }

    fn line(&mut self, line: &str, found: &mut impl FnMut(RawEvent<'_>)) {
        let event = &mut self.event;
        if line.is_empty() {
            if std::mem::take(&mut event.has_data) {
                let data = event.data.strip_suffix('\n').unwrap_or(&event.data);
                let name = if event.name.is_empty() { "message" } else { &event.name };
                found(RawEvent { name, data, id: &event.id });
            }
            event.data.clear();
            event.name.clear();
            return;
        }
        // What is known is short, so that a search in words would only begin.
        let colon = line.bytes().position(|byte| byte == b':');
        let (field, value) = colon.map_or((line, ""), |colon| (&line[..colon], &line[colon + 1..]));
        let value = value.strip_prefix(' ').unwrap_or(value);
        match field {
            "data" => {
                event.data.push_str(value);
                event.data.push('\n');
                event.has_data = true;
            }
            "event" => value.clone_into(&mut event.name),
            "id" if !value.contains('\0') => value.clone_into(&mut event.id),
            "retry" if !value.is_empty() && value.bytes().all(|digit| digit.is_ascii_digit()) => {
                self.retry = value.parse().ok().map(Duration::from_millis);
            }
            // Comments, and what nobody knows.
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// The events of a stream that comes in pieces of these lengths: name, data, id.
    fn events(stream: &[u8], cuts: &[usize]) -> (Vec<(String, String, String)>, Option<u64>) {
        let (mut decoder, mut found, mut rest) = (Decoder::default(), Vec::new(), stream);
        let mut cuts = cuts.iter().cycle();
        while !rest.is_empty() {
            let cut = cuts.next().map_or(rest.len(), |cut| (*cut).clamp(1, rest.len()));
            let (piece, others) = rest.split_at(cut);
            let take = |event: RawEvent<'_>| {
                found.push((event.name.to_owned(), event.data.to_owned(), event.id.to_owned()));
            };
            decoder.events(piece, 1 << 20, take).unwrap();
            rest = others;
        }
        (found, decoder.retry.map(|retry| retry.as_millis() as u64))
    }

    /// The streams of the web platform tests for server-sent events, with what a page hears.
    #[test]
    fn streams_of_the_web_platform_tests_are_read() {
        let data = |stream: &str| -> Vec<String> {
            events(stream.as_bytes(), &[]).0.into_iter().map(|event| event.1).collect()
        };
        assert_eq!(data("\u{feff}data:1\n\n\u{feff}data:2\n\ndata:3\n\n"), ["1", "3"]);
        assert_eq!(data("\u{feff}\u{feff}data:1\n\ndata:2\n\ndata:3\n\n"), ["2", "3"]);
        assert_eq!(
            data("data:1\r:\0\n:\r\ndata:2\n:long comment\rdata:3\n:data:fail\r:\rdata:4\n\n"),
            ["1\n2\n3\n4"]
        );
        assert_eq!(data("data:\n\ndata\ndata\n\ndata:test\n\n"), ["", "\n", "test"]);
        assert_eq!(
            data(
                "data:\0\n data:2\rData:1\ndata\0:2\ndata:1\r\0data:4\nda-ta:3\rdata_5\ndata:3\rdata:\r\n data:32\ndata:4\n\n"
            ),
            ["\0\n1\n3\n\n4"]
        );
        assert_eq!(data("data:test\r\ndata\ndata:test\r\n\r\n"), ["test\n\ntest"]);
        assert_eq!(
            data(
                "data:test\n data\ndata\nfoobar:xxx\njustsometext\n:thisisacommentyay\ndata:test\n\n"
            ),
            ["test\n\ntest"]
        );
        assert_eq!(data("data:\ttest\rdata: \ndata:test\n\n"), ["\ttest\n\ntest"]);
        assert_eq!(data("data:\0\n\n\n\n"), ["\0"]);
        assert_eq!(data("data:ok\u{2026}\n\n"), ["ok\u{2026}"]);
        assert_eq!(events(b"data:\xff\n\n", &[]).0[0].1, "\u{fffd}");
        // What the end of the stream cuts off is no event.
        assert_eq!(data("retry:1000\ndata:test1\n\nid:test\ndata:test2"), ["test1"]);
        let named = |stream: &str| events(stream.as_bytes(), &[]).0;
        let event = |name: &str, data: &str, id: &str| (name.into(), data.into(), id.into());
        assert_eq!(
            named("event:test\ndata:x\n\ndata:x\n\n"),
            [event("test", "x", ""), event("message", "x", "")]
        );
        assert_eq!(named("event: \ndata:data\n\n"), [event("message", "data", "")]);
        assert_eq!(
            named("event:abc\n\ndata:x\n\n"),
            [event("message", "x", "")],
            "the name of an event without data is forgotten"
        );
        assert_eq!(
            named("id:1\ndata:a\n\ndata:b\n\nid\ndata:c\n\nid:2\0\ndata:d\n\n"),
            [
                event("message", "a", "1"),
                event("message", "b", "1"),
                event("message", "c", ""),
                event("message", "d", ""),
            ]
        );
        let retry = |stream: &str| events(stream.as_bytes(), &[]).1;
        assert_eq!(retry("retry:3000\ndata:x\n\n"), Some(3000));
        assert_eq!(retry("retry:3000\nretry:1000x\ndata:x\n\n"), Some(3000));
        assert_eq!(retry("retry\n\n"), None);
    }

    proptest! {
        /// Wherever a stream is cut, the same events come of it.
        #[test]
        fn cuts_change_nothing(
            pieces in prop::collection::vec(prop::sample::select(vec![
                "data", ":", " ", "\r", "\n", "\r\n", "\n\n", "event", "id", "retry", "7", "ä\u{2026}", "\u{feff}", "x", "\0",
            ]), 0..60),
            cuts in prop::collection::vec(1..6usize, 1..8),
        ) {
            let stream = pieces.concat();
            prop_assert_eq!(events(stream.as_bytes(), &cuts), events(stream.as_bytes(), &[]));
            let all = |cuts: &[usize]| {
                let (mut decoder, mut found, mut rest) = (Decoder::default(), Vec::new(), stream.as_bytes());
                let mut cuts = cuts.iter().cycle();
                while !rest.is_empty() {
                    let cut = cuts.next().map_or(rest.len(), |cut| (*cut).clamp(1, rest.len()));
                    let (piece, others) = rest.split_at(cut);
                    decoder.lines(piece, 1 << 20, |event| found.push(event.data.to_owned())).unwrap();
                    rest = others;
                }
                found
            };
            let plain: Vec<String> = stream.rsplit_once('\n').map_or(Vec::new(), |(lines, _)| {
                lines.split('\n').map(|line| line.trim().to_owned()).filter(|line| !line.is_empty()).collect()
            });
            prop_assert_eq!(all(&cuts), plain);
        }
    }

    #[test]
    fn what_is_too_long_is_refused() {
        let mut decoder = Decoder::default();
        let long = [b'x'; 100];
        assert_eq!(decoder.events(&long, 64, |_| {}), Err(TooLong));
        assert_eq!(Decoder::default().lines(&long, 64, |_| {}), Err(TooLong));
        let mut lines = b"data: ten bytes\n".repeat(10);
        lines.push(b'\n');
        assert_eq!(Decoder::default().events(&lines, 64, |_| {}), Err(TooLong));
    }
}
