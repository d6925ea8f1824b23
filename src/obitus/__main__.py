"""``python -m obitus`` is the same as ``obitus``."""

from obitus.cli import main

main()
