//! JSON Pointer (RFC 6901): where the records of a response are.

use std::fmt;

/// A parsed JSON Pointer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Pointer(Vec<String>);

impl Pointer {
    /// Reads a pointer: empty, or `/`-separated parts in which `~1` stands for `/`, `~0` for `~`.
    pub(crate) fn parse(text: &str) -> Result<Self, &'static str> {
        if text.is_empty() {
            return Ok(Self(Vec::new()));
        }
        let Some(rest) = text.strip_prefix('/') else {
            return Err("a JSON Pointer is empty (the whole response) or begins with \"/\"");
        };
        rest.split('/').map(unescape).collect::<Result<_, _>>().map(Self)
    }

    /// The pointer to a member by its name.
    pub(crate) fn member(name: &str) -> Self {
        Self(vec![name.to_owned()])
    }

    /// The pointer of these parts.
    pub(crate) fn of(parts: &[String]) -> Self {
        Self(parts.to_vec())
    }

    /// The last part; empty if there is none.
    pub(crate) fn last(&self) -> &str {
        self.0.last().map_or("", String::as_str)
    }

    pub(crate) fn parts(&self) -> &[String] {
        &self.0
    }
}

fn unescape(part: &str) -> Result<String, &'static str> {
    let mut out = String::with_capacity(part.len());
    let mut characters = part.chars();
    while let Some(character) = characters.next() {
        out.push(match (character, character == '~') {
            (plain, false) => plain,
            _ => match characters.next() {
                Some('0') => '~',
                Some('1') => '/',
                _ => {
                    return Err(
                        "in a JSON Pointer \"~\" is written \"~0\", and \"/\" inside a name \"~1\"",
                    );
                }
            },
        });
    }
    Ok(out)
}

impl fmt::Display for Pointer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|part| write_part(f, part))
    }
}

/// Writes one part of a pointer behind its `/`.
pub(crate) fn write_part(out: &mut impl fmt::Write, part: &str) -> fmt::Result {
    out.write_char('/')?;
    part.chars().try_for_each(|letter| match letter {
        '~' => out.write_str("~0"),
        '/' => out.write_str("~1"),
        letter => out.write_char(letter),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The examples of RFC 6901, section 5, and its two ways of being wrong.
    #[test]
    fn reads_and_writes_the_pointers_of_the_rfc() {
        for text in [
            "", "/foo", "/foo/0", "/", "/a~1b", "/c%d", "/e^f", "/g|h", "/i\\j", "/k\"l", "/ ",
            "/m~0n",
        ] {
            assert_eq!(Pointer::parse(text).unwrap().to_string(), text);
        }
        assert_eq!(Pointer::parse("/a~1b").unwrap().parts(), ["a/b"]);
        assert_eq!(Pointer::parse("/~01").unwrap().parts(), ["~1"]);
        assert!(Pointer::parse("foo").is_err());
        assert!(Pointer::parse("/a~2").is_err());
    }
}
