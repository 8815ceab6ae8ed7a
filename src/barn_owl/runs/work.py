"""How training runs: no setting here changes its result."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from barn_owl.learn import Progress


@dataclass(frozen=True, kw_only=True)
class Work:
    """How training runs: workers, cache, overwriting, progress. Has no effect on the result.

    Attributes
    ----------
    workers : int
        Cores to use, 1 or more.
    force : bool
        Replace the files of a run that is there.
    cache : str | Path | None
        Folder to cache computed frames in, so that the next training starts at once. None: a temporary folder, since
        the frames of a large data set do not fit into memory.
    reading : Callable[[int, int], None] | None
        Called with the clips read and their number.
    watch : Callable[[Progress], None] | None
        Called after each epoch.
    on_start : Callable[[str, int, int], None] | None
        Called, in several trainings, with the name of the next training, its number from 1, and the number of all.
    stage : Callable[[str], None] | None
        Called with the present step of a training that may take a while, except reading clips and epochs.

    Examples
    --------
    >>> Work(workers=4, force=True).cache is None
    True
    """

    workers: int = 2
    force: bool = False
    cache: str | Path | None = None
    reading: Callable[[int, int], None] | None = None
    watch: Callable[[Progress], None] | None = None
    on_start: Callable[[str, int, int], None] | None = None
    stage: Callable[[str], None] | None = None

    def begin(self, name: str, number: int, total: int) -> None:
        """Report the next of several trainings.

        Parameters
        ----------
        name : str
            Name of the training.
        number : int
            Its number, from 1, and that of all.
        total : int
            Its number, from 1, and that of all.
        """
        if self.on_start:
            self.on_start(name, number, total)

    def now(self, what: str) -> None:
        """Report the present step.

        Parameters
        ----------
        what : str
            Description of the step.
        """
        if self.stage:
            self.stage(what)


PLAIN = Work()
