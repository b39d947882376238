"""One request: from what a reader asks for to a page."""
