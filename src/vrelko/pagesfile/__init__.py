"""The pages file: its schema, and listings loaded from it."""
