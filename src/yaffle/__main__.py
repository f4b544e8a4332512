"""`python -m yaffle` is the command line."""

from yaffle.cli import main

main()
