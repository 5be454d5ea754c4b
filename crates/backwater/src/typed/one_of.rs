//! Links to one of several tables, as enums.

use super::field::{FieldCell, FieldType, Written};
use super::{FieldProblem, Kind};
use crate::value::RowId;

/// An enum whose variants are links to rows of different tables: what a link to one of several
/// tables points at. `#[derive(OneOf)]` makes it one.
///
/// Each variant holds a [`Link`](crate::Link). Where a response names the table, it does so by the
/// table's name, or by what `#[one_of("…")]` gives. The table keeps that name in the field called
/// like this one with `_type` appended, or in the one that `#[table(type_field = "…")]` names. A
/// `Vec` of such an enum is a to-many link.
///
/// ```
/// use backwater::{Cache, Link, OneOf, Schema, Table};
///
/// #[derive(Debug, PartialEq, OneOf)]
/// enum About {
///     Port(Link<Port>),
///     #[one_of("ship")]
///     Vessel(Link<Vessel>),
/// }
///
/// #[derive(Debug, PartialEq, Table)]
/// struct Notice {
///     #[table(id)]
///     id: i64,
///     about: About,
///     also: Vec<About>,
/// }
/// # #[derive(Table)] struct Port { #[table(id)] code: String }
/// # #[derive(Table)] struct Vessel { #[table(id)] name: String }
/// # let _ = (Port { code: String::new() }.code, Vessel { name: String::new() }.name);
///
/// let schema = Schema::builder().table::<Port>().table::<Vessel>().table::<Notice>();
/// let schema = schema.text("rules.toml", r#"response.notices = { url = "/notices", table = "notice" }"#).build()?;
/// let cache = Cache::new(schema);
/// let page = r#"[{"id": 1, "about": {"type": "ship", "name": "Marram"}, "also": []}]"#;
/// cache.commit("notices came", |tx| tx.ingest("notices", page).map(drop))?;
/// let fog = Notice { id: 2, about: About::Port(Link::to("SAL")), also: vec![About::Vessel(Link::to("Marram"))] };
/// cache.commit("fog at the quay", |tx| tx.table::<Notice>()?.insert(&fog))?;
///
/// let snapshot = cache.snapshot();
/// let notices = snapshot.table::<Notice>()?;
/// assert_eq!(notices.get(1).here().unwrap().about, About::Vessel(Link::to("Marram")));
/// assert_eq!(notices.get(2).here(), Some(fog));
/// let about: Vec<_> = notices.pointing_at(Notice::ABOUT, About::Port(Link::to("SAL"))).collect();
/// assert_eq!(about.len(), 1);
/// assert_eq!(snapshot.get("notice", 1)?.unwrap().get("about_type")?, Some("ship".into()));
/// # Ok::<(), backwater::Error>(())
/// ```
///
/// To nest the rows, a part of the struct has an enum whose variants hold what was
/// [`Found`](crate::Found):
///
/// ```
/// use backwater::{Cache, Found, Link, OneOf, Schema, Table};
///
/// #[derive(OneOf)]
/// enum Shown<'s> {
///     Port(Found<Port>),
///     Vessel(Found<Name<'s>>),
/// }
///
/// #[derive(Table)]
/// #[table(of = Notice)]
/// struct Card<'s> {
///     about: Shown<'s>,
/// }
/// # #[derive(OneOf)] enum About { Port(Link<Port>), Vessel(Link<Vessel>) }
/// # #[derive(Table)] struct Notice { #[table(id)] id: i64, about: About }
/// # #[derive(Table)] struct Port { #[table(id)] code: String }
/// # #[derive(Table)] struct Vessel { #[table(id)] name: String }
/// # #[derive(Table)] #[table(of = Vessel)] struct Name<'s> { name: &'s str }
/// # let _ = (Port { code: String::new() }.code, Vessel { name: String::new() }.name);
/// # let cache = Cache::new(Schema::builder().table::<Port>().table::<Vessel>().table::<Notice>().build()?);
/// # cache.commit("fog", |tx| {
/// #     tx.table::<Vessel>()?.insert(&Vessel { name: "Marram".into() })?;
/// #     tx.table::<Notice>()?.insert(&Notice { id: 1, about: About::Vessel(Link::to("Marram")) })
/// # })?;
/// let snapshot = cache.snapshot();
/// let card = snapshot.table::<Card>()?.get(1).here().unwrap();
/// assert!(matches!(card.about, Shown::Vessel(Found::Here(vessel)) if vessel.name == "Marram"));
/// # let _ = |shown| if let Shown::Port(found) = shown { drop(found) };
/// # Ok::<(), backwater::Error>(())
/// ```
#[diagnostic::on_unimplemented(
    message = "a list of `{Self}` cannot be a field of a table",
    label = "`{Self}` does not derive OneOf",
    note = "a list of plain values is kept as `Json`; links to rows of one table are `Links<Table>`, and links to rows of several a `Vec` of an enum that derives OneOf"
)]
pub trait OneOf<'s>: FieldType<'s> {
    /// How the link calls each table, and the table.
    const TABLES: &'static [(&'static str, &'static str)];

    /// The table and the id of the row that it points at; `None` if it holds the row itself.
    fn target(&self) -> Option<(&'static str, RowId)>;
}

/// The table that a variant's link points at; for `#[derive(OneOf)]`.
#[doc(hidden)]
pub const fn table_of(kind: Kind) -> &'static str {
    match kind {
        Kind::Link(table) => table,
        // The derive has looked.
        _ => "",
    }
}

/// Which variant a link is; for `#[derive(OneOf)]`.
#[doc(hidden)]
pub fn variant(cell: FieldCell<'_>, tables: &[(&str, &str)]) -> Result<usize, FieldProblem> {
    let cell = cell.in_table()?;
    let (to, _) = cell.target()?;
    let table = &cell.state.schema.table(to).name;
    let place = tables.iter().position(|(_, known)| table.eq_ignore_ascii_case(known));
    place.ok_or(FieldProblem::Unfit)
}

/// The id that a link writes; for `#[derive(OneOf)]`.
#[doc(hidden)]
pub fn id_of<'s, T: FieldType<'s>>(link: &T) -> Option<RowId> {
    let Written::Value(value) = link.write() else { return None };
    RowId::of_value(&value).ok()
}
