//! Rows as structs: the types and traits behind the derives, for fields of your own types and for
//! generic code.

// How the fields of a Rust type lie in a table, read and written by name once and by number after
// that. It knows the tables' rows and a transaction's writes, and puts Rust types between them and the
// caller. It must not know queries' plans, nor keep anything of its own: a struct is read from a version
// of the tables and written through a transaction like any other write.

mod field;
mod found;
mod id;
mod live;
mod one_of;
mod read;
mod row;
mod schema;
mod shape;
mod source;
mod write;

pub(crate) use field::DEEPEST;
pub use field::{FieldCell, FieldType, Text, Written};
pub use found::{FieldProblem, Found, Partly};
pub use id::{Id, IntoId, Key, Link, Links};
pub use live::LiveRows;
pub use one_of::OneOf;
pub(crate) use read::target;
pub use read::{PointsAt, TableRows};
pub use row::{FromRow, ResultColumns, TypedQuery};
pub use schema::SchemaBuilder;
pub use shape::{
    Cells, Field, FieldShape, FieldWrites, Fields, Kind, OneRowTable, ReadTable, Shape, Table,
};
pub use write::TableWriter;

/// What the derives name; not for use by hand.
#[doc(hidden)]
pub mod made {
    pub use super::Id;
    pub use super::field::{FieldCell, FieldType, Text, Written, number, text};
    pub use super::found::FieldProblem;
    pub use super::one_of::{OneOf, id_of, table_of, variant};
    pub use super::row::{FromRow, ResultColumns, value};
    pub use super::shape::{
        Cells, Field, FieldShape, FieldWrites, Fields, Kind, OneRowTable, ReadTable, Shape, Table,
    };
    pub use crate::error::Error;
    pub use crate::value::{RowId, Value};
}
