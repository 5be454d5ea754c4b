//! The shape of JSON:API 1.1 documents, for reading responses and for proposing schemas alike: what
//! each member of a document, of a resource and of a relationship is.

use super::json::{Fault, JsonReader, Next};

type Read<T> = Result<T, Fault>;

/// The members that a document may have.
#[cfg(feature = "infer")]
pub(crate) const DOCUMENT: [&str; 6] = ["data", "errors", "meta", "links", "jsonapi", "included"];

/// A member of a resource, or of a resource identifier.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ResourceMember {
    Type,
    Id,
    Attributes,
    Relationships,
    Other,
}

impl ResourceMember {
    /// What a member of that name is, by the kind of its value.
    pub(crate) fn of(name: &str, value: Next) -> Self {
        match (name, value) {
            ("type", Next::Text) => Self::Type,
            // An id is a string, but not every server knows that.
            ("id", Next::Text | Next::Number) => Self::Id,
            ("attributes", Next::Object) => Self::Attributes,
            ("relationships", Next::Object) => Self::Relationships,
            _ => Self::Other,
        }
    }
}

/// What an object says of itself as a resource.
#[derive(Debug, Default)]
pub(crate) struct Identifier {
    pub(crate) type_name: Option<String>,
    pub(crate) id: Option<String>,
    /// Whether the id is a string, as the standard has it.
    pub(crate) has_text_id: bool,
    /// Whether it has attributes or relationships, which an identifier alone has not.
    pub(crate) has_content: bool,
}

impl JsonReader<'_> {
    /// The type and the id of the object that comes next; the reader stands behind it.
    pub(crate) fn identifier(&mut self) -> Read<Identifier> {
        let (mut found, mut first) = (Identifier::default(), true);
        self.open();
        while self.member(first)? {
            first = false;
            let name = self.name()?;
            match ResourceMember::of(&name, self.peek()?) {
                ResourceMember::Type => found.type_name = Some(self.text()?.into_owned()),
                ResourceMember::Id if self.peek()? == Next::Text => {
                    found.id = Some(self.text()?.into_owned());
                    found.has_text_id = true;
                }
                ResourceMember::Id => found.id = Some(self.skip()?.to_owned()),
                member => {
                    found.has_content |= member != ResourceMember::Other;
                    self.skip()?;
                }
            }
        }
        Ok(found)
    }

    /// Inside of a relationship, moves on to its linkage, the value of `data`; `false` at its end.
    /// What else a relationship has says nothing of the link.
    pub(crate) fn linkage(&mut self, first: &mut bool) -> Read<bool> {
        while self.member(std::mem::take(first))? {
            if self.name()? == "data" {
                return Ok(true);
            }
            self.skip()?;
        }
        Ok(false)
    }
}
