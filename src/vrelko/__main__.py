"""`python -m vrelko`: the command line."""

from vrelko.cli.main import main

main()
