"""One run in one row: where it comes from, what else it says, and what is known of its scatter."""
