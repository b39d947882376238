"""Variants: one order and set of filters, its statements kept and run."""
