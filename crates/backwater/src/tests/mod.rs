//! Promises that need both our own insides and a judge that nobody here wrote.

mod choices;
mod expressions_equal_sqlite;
mod ids_and_links_equal_sqlite;
mod operators_follow_rows;
mod queries_equal_sqlite;
mod scans_equal_a_model;
mod world;
