//! What rows promise, and the commits that write them.

mod commits_are_withdrawn;
mod deletes_follow_links;
mod keys_are_unique;
mod readers_see_whole_commits;
mod rows_grow_old;
mod schemas_change_and_lose_nothing;
mod structs_are_rows;
mod tables_come_later;
mod transactions_equal_a_model;
mod what_is_too_much_goes;
