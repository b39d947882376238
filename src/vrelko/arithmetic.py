"""Page arithmetic for those who keep their own SQL: numbers, offsets, totals and page strips.

Page numbers count from 1, offsets and rows ahead from 0, from–to from 1: see docs/arithmetic.md.
"""

from __future__ import annotations

from vrelko.core.arithmetic import (
    FromTo,
    Link,
    Sizes,
    Total,
    check_number,
    check_offset,
    clamp_number,
    from_to,
    neighbours,
    number_of,
    offset_of,
    page_count,
    strip_of,
)
from vrelko.core.numbered_page import NumberedPage, numbered_page

__all__ = [
    "FromTo",
    "Link",
    "NumberedPage",
    "Sizes",
    "Total",
    "check_number",
    "check_offset",
    "clamp_number",
    "from_to",
    "neighbours",
    "number_of",
    "numbered_page",
    "offset_of",
    "page_count",
    "strip_of",
]
