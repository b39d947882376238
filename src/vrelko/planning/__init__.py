"""Plans: access paths, judgement and statements of listings."""
