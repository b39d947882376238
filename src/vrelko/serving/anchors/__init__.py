"""Counted anchors: exact places, jumps and totals of very large tables while rows change."""
