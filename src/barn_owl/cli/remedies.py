"""Commands and options for facts and advice in the messages of the library."""

REMEDIES = {
    "or overwrite it": "--force",
    "or write into it": "--force",
    "URLs are opened only on request": "--table-urls",
    "no column 'file'": "gather --column file=NAME",
    "is a sound file, not a model": "the model, or the folder of its run, comes first: barn-owl tag RUN RECORDINGS",
    "not raw samples without a header; decode it first": "or play it with --microphone simulated:FILE",
    'or set split.together = "file"': "--set split.together=file",
    "no column 'fold'": "split --folds",
    "has another encoding": "gather --encoding cp1252",
    "not a table of clips": "barn-owl gather makes a table of a folder",
    "with the folder of its sounds": "gather TABLE --audio FOLDER",
    "none of its rows has a file that can be read": "--audio names the folder of the files",
    "if the recordings were moved, name their folder": "--audio FOLDER",
    "judge the runs on one table": "evaluate RUNS --clips TABLE",
    "resume the training": "train CLIPS --run RUN --resume",
    "nothing to resume": "leave out --resume",
    "train again from the start": "leave out --resume",
    "use fewer workers": "--workers 1",
    "a store of events": "tag --store makes one",
    "train on its clips and these recordings": "train --recordings",
    "unlabeled recordings": "train --recordings",
    "lower the threshold": "tag --threshold",
    "raise the threshold": "tag --threshold",
    "look at the scores": "tag --figure",
    "adjust the model on a recording with known events": "barn-owl adjust",
    "clips cut from recordings": "barn-owl cut",
    "cut the events out": "barn-owl cut",
    "background clips": "cut --background, train --background",
    "check the clips": "barn-owl check",
    "rename the label": "gather --relabel OLD=NEW",
    "limit the others": "gather --limit",
    "use the settings of the model": "--start-from takes them over",
    "a smaller network": "barn-owl shrink",
    "another runtime": "--runtime onnx",
    "use more workers": "--workers",
}
"""Words of a message, and the option or command that follows them in parentheses."""


def with_remedies(text: str) -> str:
    """Add commands and options to a message of the library, after the words that need them.

    >>> with_remedies("a.csv already exists; choose another name, or overwrite it")
    'a.csv already exists; choose another name, or overwrite it (--force)'
    """
    for words, remedy in REMEDIES.items():
        if words in text and remedy not in text:
            text = text.replace(words, f"{words} ({remedy})", 1)
    return text
