//! What files with a cache promise.

mod exports_give_it_back;
mod files_are_touched_by_others;
mod readers_follow_writers;
mod storages_keep_their_promises;
