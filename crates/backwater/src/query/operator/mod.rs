//! Operators: what a statement is made of, each in the file of its name.
//!
//! Inputs are joined or united to tuples, which are filtered and made into rows; these are put in order
//! and cut to what shows. Each operator says what it computes from nothing, how it follows a commit, how
//! it goes over to other values of parameters, what it keeps, and how it describes itself (`describe`).
//!
//! | operator | from nothing | after a commit | for other values | keeps |
//! |---|---|---|---|---|
//! | [`input`]: a table, or another statement | `Input::each`, `Input::equal` | [`join::Start`]: rows that changed | computed anew | nothing; `statement_rows` |
//! | [`join`] and [`union`] | `Walk::all` | `changed_tuples` | `rebound_tuples` | nothing |
//! | [`filter`] | `Filter::of` | `belonging` | `band`, `narrow` | texts that were searched |
//! | what makes [`rows`]: [`project`], [`group`], [`window`], [`elements`], [`recursion`] | `RowOperator::compute` | `RowOperator::apply` | computed anew | `RowsState` |
//! | [`order`] | `Ordered::of_tuples`, `Ordered::of_rows` | `Ordered::follow_tuples`, `Ordered::follow_rows` | a version, or `difference` | `Ordered` |
//! | [`limit`] | `first_needed` | `shown` | `excerpt_moved`, `thinned` | nothing |
//!
//! They know a plan and versions of the tables ([`view`]). What they keep between two commits, a binding
//! has (`state/binding.rs`); when they run is decided by `state/` and `engine/`.

pub(in crate::query) mod aggregate;
pub(in crate::query) mod describe;
pub(in crate::query) mod elements;
pub(in crate::query) mod exact;
pub(in crate::query) mod failed;
pub(in crate::query) mod filter;
mod frame;
pub(in crate::query) mod group;
pub(in crate::query) mod indexes;
pub(in crate::query) mod input;
pub(in crate::query) mod join;
pub(in crate::query) mod limit;
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
