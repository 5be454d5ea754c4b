//! Operators: how rows are found, joined, filtered, grouped and ordered, from nothing and from
//! changed rows.
//!
//! They know a plan and one version of the tables. They keep nothing between two commits.

pub(in crate::query) mod aggregate;
pub(in crate::query) mod describe;
pub(in crate::query) mod edit;
pub(in crate::query) mod elements;
pub(in crate::query) mod exact;
pub(in crate::query) mod failed;
pub(in crate::query) mod filter;
mod frame;
pub(in crate::query) mod group;
pub(in crate::query) mod indexes;
pub(in crate::query) mod input;
pub(in crate::query) mod join;
pub(in crate::query) mod link_join;
pub(in crate::query) mod order;
pub(in crate::query) mod project;
pub(in crate::query) mod recursion;
pub(in crate::query) mod rows;
pub(in crate::query) mod scan;
pub(in crate::query) mod scanned;
mod statement_input;
pub(in crate::query) mod statement_rows;
mod table_input;
pub(in crate::query) mod union;
pub(in crate::query) mod view;
pub(in crate::query) mod walk;
pub(in crate::query) mod window;
pub(in crate::query) mod window_values;
