"""Surveying: what a database tells of its tables without being scanned."""
