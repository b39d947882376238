"""The page on the Python interface, written from the docstrings themselves.

python tests/api_doc.py      writes docs/api.md anew
"""

import dataclasses
import importlib
import inspect
import re
from pathlib import Path

PAGE = Path(__file__).parent.parent / "docs" / "api.md"
HEAD = """# Python interface

For whoever looks for a class, a method or an argument. Written by `python tests/api_doc.py` from
the docstrings; `help(vrelko.Listing)` says the same. Every call that fails raises an error of
`vrelko.errors` with `what`, `todo` and `code` ([errors](errors.md)).
"""
MODULES = {
    "vrelko": "Listings, plans, measurement, drift and surveys.",
    "vrelko.arithmetic": "Page arithmetic without a listing.",
    "vrelko.web": "Pages over HTTP: needs the extra `web`.",
}


def render():
    """Return the page: each public name of each public module, with its members."""
    parts = [HEAD]
    for module_name, said in MODULES.items():
        module = importlib.import_module(module_name)
        parts.append(f"## {module_name}\n\n{said}\n")
        for name in sorted(module.__all__, key=lambda one: (one[0].islower(), one.lower())):
            parts += _entry(name, getattr(module, name))
    return "\n".join(parts)


def _entry(name, found):
    if inspect.ismodule(found):
        return []
    if not callable(found):
        return [f"### {name}\n\nA constant: `{found!r}`.\n"]
    head = f"class {name}" if inspect.isclass(found) else name
    parts = [f"### {name}\n", f"```python\n{head}{_signature(found)}\n```\n", _text(found), ""]
    if inspect.isclass(found):
        rows = [row for one in _members(found) if (row := _member(found, one))]
        if rows:
            parts += ["| member | meaning |", "|---|---|", *rows, ""]
    return parts


def _signature(found):
    try:
        signature = inspect.signature(found)
    except ValueError:
        return ""
    given = []
    for one in signature.parameters.values():
        if one.name.startswith("_") or one.name == "self":
            continue
        default = "" if one.default is one.empty else f"={_plain(one.default)}"
        star = {one.VAR_POSITIONAL: "*", one.VAR_KEYWORD: "**"}.get(one.kind, "")
        given.append(f"{star}{one.name}{default}")
    whole = f"({', '.join(given)})"
    if len(whole) < 90:
        return whole
    return "(\n" + "".join(f"    {one},\n" for one in given) + ")"


def _plain(default):
    text = repr(default)
    hidden = isinstance(default, type(dataclasses.MISSING)) or len(text) > 40
    if hidden or " at 0x" in text or "factory" in text:
        return "…"
    return text


def _members(owner):
    """Return the names of a class's public members, in the order they are written."""
    names = [name for one in owner.__mro__[:-1] for name in vars(one)]
    return [name for name in dict.fromkeys(names) if not name.startswith("_")]


def _member(owner, name):
    found = inspect.getattr_static(owner, name)
    if isinstance(found, property):
        return f"| `{name}` | {_cell(_text(found.fget))} |"
    if isinstance(found, (classmethod, staticmethod)):
        found = found.__func__
        shown = re.sub(r"^\(cls(, )?", "(", _signature(found))
        return f"| `{owner.__name__}.{name}{_cell(shown)}` | {_cell(_text(found))} |"
    if inspect.isfunction(found):
        return f"| `{name}{_cell(_signature(found))}` | {_cell(_text(found))} |"
    return ""


def _text(found):
    return inspect.cleandoc(found.__doc__ or "")


def _cell(text):
    return " ".join(text.split()).replace("|", "\\|").replace("( ", "(").replace(", )", ")")


if __name__ == "__main__":
    PAGE.write_text(render(), encoding="utf-8")
