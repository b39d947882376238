"""Spots as text: written, read, signed, encrypted."""
