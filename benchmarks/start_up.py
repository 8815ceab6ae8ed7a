"""How long the package takes to import, and the help page to show."""

import subprocess
import sys

from timing import best_seconds, tell


def main() -> None:
    def python(script: str) -> None:
        subprocess.run([sys.executable, "-c", script], check=True, stdout=subprocess.DEVNULL)

    bare, package, page, command = best_seconds(
        lambda: python("pass"),
        lambda: python("import barn_owl"),
        lambda: python("from barn_owl.cli.main import run; run(['--help'])"),
        lambda: python("from barn_owl.cli.main import run; run(['tag', '--help'])"),
    )
    tell("import barn_owl: seconds", package - bare, "< 0.3")
    tell("barn-owl --help: seconds, Python included", page, "< 0.5")
    tell("barn-owl tag --help: seconds, all that tagging needs imported", command, "(for information)")


if __name__ == "__main__":
    main()
