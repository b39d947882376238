"""The fields of the records that JSON output is made of, as docs/schemas.md lists them.

python tests/schemas_doc.py        # writes them there
"""

import dataclasses
import re
from pathlib import Path

from vrelko.core.cost.checks import Check, Count
from vrelko.core.cost.rates import Rates, Time
from vrelko.core.cost.work import Work
from vrelko.core.drift.expectation import DriftExpectation
from vrelko.core.drift.walks import Counts
from vrelko.core.facts import ColumnFacts, ServerFacts, TableFacts
from vrelko.core.findings import Finding
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.core.index_advice import Advice
from vrelko.core.judgement import Crossover, Given, Judgement, Outlook, VariantCost
from vrelko.core.reader_load import Burden
from vrelko.core.sizing import SizeAdvice, SizeCost
from vrelko.core.verdict import Candidate, Rung, Verdict
from vrelko.core.workload import Depth, Landing, Needs, Readers, Writers

PAGE = Path(__file__).parent.parent / "docs" / "schemas.md"
BEGIN, END = "<!-- fields: written by tests/schemas_doc.py -->\n", "<!-- end of fields -->\n"
RECORDS = (
    ("facts", (ServerFacts, TableFacts, ColumnFacts, IndexFacts, IndexColumn)),
    ("plan", (Judgement, Given, Readers, Depth, Writers, Landing, Needs, Candidate, Rung, Burden,
              Crossover, Verdict, Finding, Advice, SizeAdvice, SizeCost, VariantCost, Outlook,
              Rates, Check, Count)),
    ("work and time", (Work, Time)),
    ("drift", (DriftExpectation, Counts)),
)  # fmt: skip


def render():
    """Return the section: each record with its fields, and the first sentence that it says."""
    lines = []
    for title, records in RECORDS:
        lines += [f"### {title}", "", "| record | fields |", "|---|---|"]
        for record in records:
            names = ", ".join(f"`{one.name}`" for one in dataclasses.fields(record))
            first = re.split(r"(?<=\.)\s", " ".join((record.__doc__ or "").split()))[0]
            lines.append(f"| {record.__name__}: {first} | {names} |")
        lines.append("")
    return "\n".join(lines)


def written():
    """Return the section as the page has it."""
    return PAGE.read_text(encoding="utf-8").partition(BEGIN)[2].partition(END)[0]


if __name__ == "__main__":
    text = PAGE.read_text(encoding="utf-8")
    if BEGIN not in text:
        text += f"\n## Fields\n\n{BEGIN}{END}"
    head, _, rest = text.partition(BEGIN)
    PAGE.write_text(head + BEGIN + render() + END + rest.partition(END)[2], encoding="utf-8")
