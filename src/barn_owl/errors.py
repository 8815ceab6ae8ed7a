"""The errors a user can catch.

BarnOwlError
├── AudioError    a sound file, stream or array that cannot be used
├── TableError    a clip table that cannot be used
├── PlanError     a setting that is unknown, of the wrong type or out of range
├── ModelError    a model file that is damaged, unknown or too new, or used on what it was not made for
├── TrainingError training that cannot continue
├── EngineError   machines that cannot be reached, or do not fit
└── OutputError   something that cannot be written, or would overwrite what is there

Messages state the fault, its place and a remedy. The built-in parent is mixed in, so a plain ``except ValueError`` or
``except OSError`` works too.
"""


class BarnOwlError(Exception):
    """Parent of every error that Barn Owl raises on purpose.

    Examples
    --------
    >>> try:
    ...     barn_owl.load_model("nowhere")
    ... except barn_owl.BarnOwlError as error:
    ...     print(error)
    nowhere does not exist
    """


class AudioError(BarnOwlError, ValueError):
    """A sound file, stream or array that cannot be used."""


class TableError(BarnOwlError, ValueError):
    """A clip table that cannot be used."""


class PlanError(BarnOwlError, ValueError):
    """A setting that is unknown, of the wrong type or out of range."""


class ModelError(BarnOwlError, ValueError):
    """A model file that is damaged, unknown, too new, or used for a wrong purpose."""


class TrainingError(BarnOwlError, RuntimeError):
    """Training that cannot continue."""


class EngineError(BarnOwlError, RuntimeError):
    """Machines that cannot be reached, or do not fit."""


class OutputError(BarnOwlError, OSError):
    """An output that cannot be written, or would overwrite a file."""
