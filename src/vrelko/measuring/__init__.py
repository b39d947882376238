"""Running planned pages on the database: counted, timed, and walked while rows change."""
