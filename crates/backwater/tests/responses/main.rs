//! What becomes of responses.

mod entries_have_fields;
mod formats_become_the_same_rows;
mod hard_input_does_no_harm;
mod ingest_merges_responses;
mod many_are_read_at_once;
mod pages_keep_the_servers_order;
mod pages_stay_true;
mod patches_do_what_their_standards_say;
mod responses_come_in_every_shape;
mod rules_say_what_a_response_holds;
mod streams_merge_what_waits;
