"""``python -m barn_owl`` is the command ``barn-owl``."""

from barn_owl.cli.main import main

main()
