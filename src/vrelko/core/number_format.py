"""Numbers as people read them."""

from __future__ import annotations


def render_count(value: float) -> str:
    """Return a count: 12,480 or 1.8 M beyond ten millions; small fractions keep a digit."""
    if 0 < value < 10 and value != int(value):
        return f"{value:.1f}"
    return f"{value / 1e6:,.1f} M" if value >= 1e7 else f"{value:,.0f}"


def render_many(count: float, noun: str) -> str:
    """Return a whole count with its noun: 1 page, 318 pages."""
    return f"{render_count(count)} {noun if count == 1 else noun + 's'}"


def render_mean(value: float) -> str:
    """Return a mean count: two figures below ten, whole numbers above."""
    return f"{value:.2g}" if value < 10 else f"{value:,.0f}"


def render_rare(value: float) -> str:
    """Return a mean per walk, no more exactly than anyone wants to know it."""
    return "<0.01" if 0 < value < 0.01 else render_mean(value)


def render_bytes(value: float) -> str:
    """Return bytes in B, kB, MB or GB, by thousands."""
    for unit, size in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if value >= size:
            return f"{value / size:,.1f} {unit}"
    return f"{value:,.0f} B"


def render_ms(value: float) -> str:
    """Return milliseconds to two figures or better."""
    return f"{value:,.0f}" if value >= 100 else f"{value:.1f}" if value >= 10 else f"{value:.2f}"
