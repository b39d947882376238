"""Figures and one-file reports from results; no database is asked here."""
