"""How long the package takes to import, and the help page to show."""

import subprocess
import sys

from timing import best_seconds, tell


def main() -> None:
    def python(script: str) -> None:
        subprocess.run([sys.executable, "-c", script], check=True, stdout=subprocess.DEVNULL)

    bare, package, page, tag, train = best_seconds(
        lambda: python("pass"),
        lambda: python("import barn_owl"),
        lambda: python("from barn_owl.cli.main import run; run(['--help'])"),
        lambda: python("from barn_owl.cli.main import run; run(['tag', '--help'])"),
        lambda: python("from barn_owl.cli.main import run; run(['train', '--help'])"),
    )
    tell("import barn_owl: seconds", package - bare, "< 0.3")
    tell("barn-owl --help: seconds, Python included", page, "< 0.5")
    tell("barn-owl tag --help: seconds", tag, "< 0.5")
    tell("barn-owl train --help: seconds, with all settings of a plan", train, "< 0.5")


if __name__ == "__main__":
    main()
