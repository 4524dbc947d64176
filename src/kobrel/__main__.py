"""``python -m kobrel`` is ``kobrel``."""

from kobrel.cli import main

main()
