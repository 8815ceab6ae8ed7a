"""The tutorial notebook, and the display of runs, evaluations, suggestions and clips in notebooks."""

from pathlib import Path

CELLS = [
    "import barn_owl\nclips = barn_owl.gather_folder({folder!r}).clips\nclips.head(2)",
    "barn_owl.suggest_plan(clips)",
    "run = barn_owl.open_run({run!r})\nrun",
    "run.evaluate()",
    "barn_owl.show.listen(clips, most=3)",
    "barn_owl.show.listen(run.evaluate().mistakes, most=2)",
    "barn_owl.show.curves_figure(run)",
]


def test_results_display_themselves(folder, ranking, tmp_path):
    import nbformat
    from nbclient import NotebookClient

    names = {"folder": str(folder), "run": str(ranking[0] / "cnn")}
    cells = [nbformat.v4.new_code_cell(cell.format(**names)) for cell in CELLS]
    notebook = nbformat.v4.new_notebook(cells=cells)
    NotebookClient(notebook, timeout=120, resources={"metadata": {"path": str(tmp_path)}}).execute()
    shown = [cell.outputs[-1].data for cell in notebook.cells]
    pages = [data.get("text/html", "") for data in shown]
    assert all("<table" in page for page in pages[:-1])
    assert "front_end.rate_hz" in pages[1]
    assert "In a recording, by the rehearsal" in pages[2]
    assert "Balanced accuracy" in pages[3]
    assert pages[4].count("<audio") == pages[4].count("<img") == 3
    assert "image/png" in shown[-1]


def test_the_notebook_of_the_tutorial_runs(tmp_path):
    import nbformat
    from nbclient import NotebookClient

    path = Path(__file__).parents[1] / "docs/tutorial/features-and-a-classifier.ipynb"
    notebook = nbformat.read(path, as_version=4)
    assert not any(cell.get("outputs") for cell in notebook.cells)  # the site shows them, the repository stays small
    NotebookClient(notebook, timeout=300, resources={"metadata": {"path": str(tmp_path)}}).execute()
    shown = [cell.outputs[-1].data for cell in notebook.cells if cell.cell_type == "code"]
    assert sum("image/png" in data for data in shown) == 3
    assert sum("text/html" in data for data in shown) >= 4
