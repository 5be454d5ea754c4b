//! Response rules: what one kind of API response holds, and where.

use std::sync::Arc;

use super::{Branch, FieldNo, Pointer, TableNo, Template};
use crate::value::Value;

/// What one kind of API response holds, how it is recognised, and what becomes of it.
#[derive(Debug, PartialEq)]
pub(crate) struct Rule {
    pub(crate) name: Arc<str>,
    /// The method by which it is asked for.
    pub(crate) method: Arc<str>,
    /// Other methods whose responses it reads too.
    pub(crate) also_methods: Vec<Arc<str>>,
    /// The URL by which it is asked for.
    pub(crate) url: Option<Template>,
    /// Other URLs whose responses it reads too.
    pub(crate) also_urls: Vec<Template>,
    pub(crate) format: Format,
    pub(crate) records: Pointer,
    /// Where in a response its records are, and values beside them.
    pub(crate) places: Branch<ResponsePart>,
    /// The types of objects beside the records, by their numbers.
    pub(crate) types: Vec<NamedType>,
    /// Where in each element of the records the record is.
    pub(crate) record: Vec<String>,
    /// Whether the records are members of an object whose names are their ids.
    pub(crate) keyed: bool,
    /// The table of its records; of a rule without records, the first one that it writes to.
    pub(crate) table: TableNo,
    /// Fields of the records that the request says.
    pub(crate) given: Vec<(FieldNo, Given)>,
    /// Fields of the records that stand outside of them in the response.
    pub(crate) taken: Vec<(FieldNo, TakenFrom)>,
    pub(crate) list: Option<ListRule>,
    /// The variable that tells parts, such as pages, apart.
    pub(crate) part: Option<Arc<str>>,
    /// Rows of this scope that a response does not have are deleted.
    pub(crate) complete: Option<Scope>,
    pub(crate) on_error: OnError,
    /// Members that a request calls otherwise than the table does: table, alias, field.
    pub(crate) aliases: Vec<(TableNo, Arc<str>, FieldNo)>,
    /// Whether the request deletes the row whose id it gives, whatever the response says.
    pub(crate) deletes: bool,
    /// Whether its records are deleted: if a member of the response has one of these values.
    pub(crate) deletes_if: Option<(Pointer, Vec<String>)>,
    pub(crate) asking: Asking,
}

/// How a rule's answers are asked for.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Asking {
    /// For how many seconds an answer is fresh if the server does not say.
    pub(crate) max_age: Option<u32>,
    /// After how many seconds an answer that is wanted is asked for again, fresh or not.
    pub(crate) reload_every: Option<u32>,
    /// Variables whose values are not shown or stored.
    pub(crate) secret: Vec<String>,
    /// How a page says what follows it, beside the header field `Link`.
    pub(crate) next: Option<NextPage>,
    /// What becomes of the pages behind one that is reloaded.
    pub(crate) later_pages: LaterPages,
    /// The rules whose answers are stale after a request by this one.
    pub(crate) makes_stale: Vec<String>,
}

/// How a page of a list says what follows it.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum NextPage {
    /// A member of the response, which is a URL or the value of the part's variable.
    Member(Pointer),
    /// The part's variable counts pages.
    Page,
    /// The part's variable counts records.
    Offset,
    /// The header field `Link` alone.
    Link,
}

impl NextPage {
    /// Whether parts are numbered in the order of their coming, since their names have none.
    pub(crate) fn numbers_parts(&self) -> bool {
        matches!(self, NextPage::Member(_) | NextPage::Link)
    }
}

/// What becomes of the pages behind one that is reloaded and has changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum LaterPages {
    /// They are asked for again, one after the other.
    #[default]
    Reload,
    Keep,
    /// They leave the list, and are asked for by `more`.
    Drop,
}

impl Rule {
    /// Whether it reads responses to requests by that method.
    pub(crate) fn reads_method(&self, method: &str) -> bool {
        let is_it = |known: &Arc<str>| known.eq_ignore_ascii_case(method);
        is_it(&self.method) || self.also_methods.iter().any(is_it)
    }

    /// The URLs whose responses it reads.
    pub(crate) fn urls(&self) -> impl Iterator<Item = &Template> {
        self.url.iter().chain(&self.also_urls)
    }

    /// The variable that tells parts of its list apart.
    #[cfg(feature = "remote")]
    pub(crate) fn part(&self) -> Option<&str> {
        self.part.as_deref()
    }

    /// The variables that it uses.
    pub(crate) fn variables(&self) -> impl Iterator<Item = &str> {
        let scope = match &self.complete {
            Some(Scope::Rows(rows)) => rows.as_slice(),
            _ => &[],
        };
        let given = self.given.iter().chain(scope).filter_map(|(_, given)| match given {
            Given::Variable(name) => Some(&**name),
            Given::Value(_) => None,
        });
        let list = self.list.iter().flat_map(|list| list.key.iter().chain(&list.part));
        given.chain(list.map(|name| &**name))
    }
}

/// What a rule looks for in a response.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ResponsePart {
    Records,
    /// A field of a one-row table.
    Value(TableNo, FieldNo),
    /// Rows of another table than the records'; of objects that name their type, those of one type.
    Rows(TableNo, Option<TypeNo>),
    /// Resources beside the primary ones of a JSON:API document.
    Included,
    /// What a server says instead of an answer.
    Errors,
}

/// The number of a type among those that a rule distinguishes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct TypeNo(pub(crate) u32);

/// What objects say of their type that are rows of one table, where others stand beside them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct NamedType {
    pub(crate) member: Box<str>,
    pub(crate) name: Box<str>,
}

/// A value that a rule says itself or takes from the request.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Given {
    Variable(Arc<str>),
    Value(Value),
}

/// Where a field of a record stands, if not in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum TakenFrom {
    /// In the response, or in its line.
    Response(Pointer),
    /// In the element of the records that has the record inside of it.
    Element(Pointer),
}

/// Which rows a response is complete for.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Scope {
    Table,
    /// The rows with these values.
    Rows(Vec<(FieldNo, Given)>),
}

impl Scope {
    pub(crate) fn fields(&self) -> Option<Vec<FieldNo>> {
        match self {
            Scope::Table => None,
            Scope::Rows(fields) => Some(fields.iter().map(|(field, _)| *field).collect()),
        }
    }
}

/// The list that a rule writes: its table has a field for each variable of the key, then `part`,
/// `position` and `target`.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct ListRule {
    pub(crate) table: TableNo,
    /// The variables that identify a list.
    pub(crate) key: Vec<Arc<str>>,
    /// The variable that identifies a part of it, such as a page.
    pub(crate) part: Option<Arc<str>>,
}

impl ListRule {
    pub(crate) fn part_field(&self) -> FieldNo {
        FieldNo(self.key.len() as u32)
    }

    pub(crate) fn position_field(&self) -> FieldNo {
        FieldNo(self.key.len() as u32 + 1)
    }

    /// The fields that all rows of one part have in common.
    pub(crate) fn part_fields(&self) -> Vec<FieldNo> {
        (0..=self.key.len() as u32).map(FieldNo).collect()
    }
}

/// How a response is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Format {
    Json,
    /// One JSON value a line.
    Ndjson,
    /// A JSON:API 1.1 document.
    JsonApi,
    /// A GraphQL response.
    GraphQl,
}

/// What becomes of a record that does not fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum OnError {
    /// The whole response is refused.
    Fail,
    /// It is left out and reported.
    Skip,
}
