"""`gelassen channels --sweep`: which fan each duty drives, where it stops and starts."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gelassen.commands.shared.common import emit, say, status_line

if TYPE_CHECKING:
    from gelassen.bench import Bench


def sweep(
    bench: "Bench", duties: Sequence[str], *, noise: bool, figure: Path | None, store: Path | None,
    form: str, made_up: bool,
) -> None:  # fmt: skip
    """Sweep the fans of a bench, print what was found, and draw and store it where asked."""
    from gelassen.conduct.fan_sweep import duties_to_sweep, fan_tables, sweep_fans
    from gelassen.core.foundation.result import plain
    from gelassen.figures import sweep as draw
    from gelassen.figures.canvas import save
    from gelassen.show.sweep_text import SWEEP_HEADER, sweep_rows, sweep_text
    from gelassen.show.tables import table_in
    from gelassen.study.file.edit import store_sweeps

    duties = duties_to_sweep(bench, duties)
    say("stepping the duty of each fan at rest; each is put back; Ctrl-C ends it")
    with status_line() as progress:
        found = sweep_fans(bench, duties, heard=_heard if noise else None, progress=progress)
    fans = [one for swept in found.values() for one in swept.fans]
    if form == "json":
        content = {"made_up": made_up, "duties": plain(found)}
        emit(json.dumps(content, indent=2, ensure_ascii=False))
    elif form == "text":
        none = [name for name, swept in found.items() if not swept.fans and not swept.refused]
        refused = {name: swept.refused for name, swept in found.items() if swept.refused}
        emit(sweep_text(fans, none, refused))
    else:
        emit(table_in(form, SWEEP_HEADER, sweep_rows(fans)))
    if figure is not None and fans:
        save(draw(fans, made_up=made_up), figure)
        say(f"drawn: {figure}")
    if store is not None and fans:
        store_sweeps(store, fan_tables(found))
        say(f"stored in {store / 'study.toml'}, as [[fans]]")


def _heard(name: str, duty: float) -> str:
    said = click.prompt(
        f"how loud at {duty:g} % ({name}): dB(A) or words, empty if not heard",
        default="", show_default=False, err=True,
    )  # fmt: skip
    return str(said).strip()
