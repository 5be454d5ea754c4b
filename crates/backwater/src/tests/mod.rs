//! Promises that need both the public interface and a judge that nobody here wrote.

mod queries_equal_sqlite;
