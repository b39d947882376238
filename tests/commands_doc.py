"""The page on commands, written from the commands themselves.

python tests/commands_doc.py      writes docs/commands.md anew
"""

from pathlib import Path

import click

from vrelko.cli.main import main

PAGE = Path(__file__).parent.parent / "docs" / "commands.md"
HEAD = """# Commands

For whoever looks for an option. Written by `python tests/commands_doc.py` from the commands;
`vrelko COMMAND --help` says the same.
"""


def render():
    """Return the page: each command, what it does, its arguments and options."""
    context = click.Context(main, info_name="vrelko", **main.context_settings)
    parts = [HEAD]
    for name, command in _commands(context):
        with click.Context(command, info_name=name, parent=context) as one:
            usage = " ".join(command.collect_usage_pieces(one))
            parts.append(f"## vrelko {name}\n\n`vrelko {name} {usage}`\n")
            parts.append(" ".join((command.help or "").split()) + "\n")
            rows = [
                found
                for param in command.get_params(one)
                if isinstance(param, click.Option) and (found := param.get_help_record(one))
            ]
        parts.append("| option | meaning |\n|---|---|")
        parts += [f"| `{_cell(option)}` | {_cell(told)} |" for option, told in rows]
        parts.append("")
    return "\n".join(parts)


def _commands(context):
    """Yield each command by its name, those of a group by both."""
    for name in main.list_commands(context):
        command = main.commands[name]
        yield name, command
        if isinstance(command, click.Group):
            yield from ((f"{name} {one}", inner) for one, inner in sorted(command.commands.items()))


def _cell(text):
    return " ".join(text.split()).replace("|", "\\|")


if __name__ == "__main__":
    PAGE.write_text(render(), encoding="utf-8")
