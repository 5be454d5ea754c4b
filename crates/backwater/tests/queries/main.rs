//! What queries and their results promise.

mod derived_values_run_when_they_must;
mod missing_cells_are_listed;
mod reports_say_why;
mod results_have_limits;
mod results_stay_as_they_were;
mod statements_and_schemas_are_checked;
mod views_follow_their_queries;
