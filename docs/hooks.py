"""Hooks of the site: includes the files of the offline search."""

REMOTE = "https://unpkg.com/iframe-worker/shim"


def on_post_page(output: str, page, config) -> str:  # noqa: ARG001 - as MkDocs calls it
    """Load the shim for search workers from the site itself instead of from the network."""
    return output.replace(REMOTE, "../" * page.url.count("/") + "assets/iframe-worker.js")


def on_post_template(output_content: str, template_name: str, config) -> str:  # noqa: ARG001
    """Do the same for the page of missing pages."""
    return output_content.replace(REMOTE, "assets/iframe-worker.js")
