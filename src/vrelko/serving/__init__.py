"""Listings, pages and cursors: what serves the planned pages."""
