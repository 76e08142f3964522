"""The page: one HTML document with its style and script inside, and the policy that allows just these."""

import base64
import hashlib
from functools import cache
from importlib.resources import files

_PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>A run, live</title>
<style>{style}</style>
</head>
<body>
<header>
<h1 id="title">A run, live</h1>
<p id="made-up" class="made-up" hidden>made-up sample data</p>
<p class="soft" id="run"></p>
</header>
<main>
<p class="answer" id="phase" aria-live="polite">waiting for the first readings</p>
<p id="estimate"></p>
<section aria-labelledby="h-now"><h2 id="h-now">Now</h2>
<dl id="now"></dl></section>
<section aria-labelledby="h-course"><h2 id="h-course">Course</h2>
<p class="soft">Time counts from the start of the load.</p>
<div id="charts"></div></section>
<section aria-labelledby="h-messages"><h2 id="h-messages">Messages</h2>
<ul id="messages"></ul></section>
</main>
<script>{library}</script>
<script>{script}</script>
</body>
</html>
"""


@cache
def page_and_policy() -> tuple[str, str]:
    """Return the page, and its Content-Security-Policy."""
    shared, own = files("gelassen.show.page"), files("gelassen.watch")
    style = "\n".join(
        [
            shared.joinpath("uPlot.min.css").read_text("utf-8"),
            shared.joinpath("page.css").read_text("utf-8"),
            own.joinpath("live.css").read_text("utf-8"),
        ]
    )
    library = shared.joinpath("uPlot.iife.min.js").read_text("utf-8").strip()
    script = own.joinpath("live.js").read_text("utf-8").strip()
    policy = (
        f"default-src 'none'; connect-src 'self'; style-src {_hash(style)}; "
        f"script-src {_hash(library)} {_hash(script)}; base-uri 'none'; form-action 'none'; "
        "frame-ancestors 'none'"
    )
    page = _PAGE.format(style=style, library=library, script=script)
    return page, policy


def _hash(text: str) -> str:
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}'"
