"""Everything that is written from the code or from servers at hand: `make docs`.

    python tests/generate.py [NAME ...]     a name that is not known lists them

Without names all but `explained`, the corpus of EXPLAIN outputs of the servers at hand, and
`accuracy`, whose tables take ten minutes to measure.
"""

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent
GENERATORS = {
    "api": [["tests/api_doc.py"]],
    "commands": [["tests/commands_doc.py"]],
    "schemas": [["tests/schemas_doc.py"]],
    "values": [["tests/stored.py"]],
    "figures": [["bench/big_figure.py", "docs/big.md", "docs/big.png"]],
    "explained": [["tests/explained.py"]],
    "accuracy": [
        ["bench/accuracy/run.py", "--pages", "3", "--scale", "0.4", "--seed", "5511"],
        ["bench/accuracy/foreign_run.py", "--seed", "171717", "--pages", "4"],
        ["bench/accuracy/write.py"],
    ],
}
USUAL = [name for name in GENERATORS if name not in ("explained", "accuracy")]


def main(names):
    """Run the generators named, and say which files are other than before."""
    for name in names or USUAL:
        if name not in GENERATORS:
            raise SystemExit(f"no generator {name!r}. Name one of {', '.join(GENERATORS)}.")
    for name in names or USUAL:
        for script, *arguments in GENERATORS[name]:
            print(f"{name}: {script}", flush=True)
            subprocess.run([sys.executable, str(ROOT / script), *arguments], cwd=ROOT, check=True)


if __name__ == "__main__":
    main(sys.argv[1:])
