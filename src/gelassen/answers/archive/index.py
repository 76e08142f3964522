"""The index of an archive: one Parquet file a study, with a line for each run.

The files are one dataset of Arrow, partitioned by study. Each also says in its metadata what the study
is, so that an overview reads no rows.
"""

import contextlib
import json
from dataclasses import dataclass, fields
from datetime import datetime
from io import BytesIO
from typing import Any
from urllib.parse import quote
from uuid import uuid4

import pyarrow as pa
import pyarrow.dataset as ds
import pyarrow.parquet as pq
from pyarrow.fs import FSSpecHandler, PyFileSystem

from gelassen.answers.archive.place import Place
from gelassen.answers.rows.run_row import RunRow
from gelassen.answers.study_runs import OTHER_KINDS
from gelassen.core.foundation.errors import FileError

_SAID = b"gelassen"
_ROWS = "rows.parquet"
FACTOR = "factor."
_KINDS: dict[str, Any] = {"str": pa.string(), "float": pa.float64(), "bool": pa.bool_()}
# Fields of a row that a question filters by or shows. The whole row stands beside them, as JSON.
_NUMBERS = (
    "value", "standard_error", "low", "high", "missing_k", "thermal_share", "power_share", "power_w",
    "settled_w", "clock_mhz", "fan_rpm", "work_per_s", "noise_dba", "duty_pct", "reference_c", "limit_c",
    "power_limit_w", "hold_length_s", "load_length_s",
)  # fmt: skip
_WORDS = ("run", "setup", "measured", "kind", "unit", "outcome", "mount", "protocol", "load")
_FLAGS = ("reached", "at_limit", "made_up")
COLUMNS = (
    *((name, pa.string()) for name in ("title", "machine", *_WORDS)),
    ("started", pa.timestamp("us", tz="UTC")),
    *((name, pa.float64()) for name in _NUMBERS),
    *((name, pa.bool_()) for name in _FLAGS),
    ("left_out", pa.string()),
    ("row", pa.string()),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Indexed:
    """What the index says of one study.

    Attributes
    ----------
    study
        Its path below the archive.
    stamp
        The mark of its files when it was indexed.
    title, machine, limit_c, made_up
        From its study file.
    setups, runs, left_out
        How many there are; runs that cannot be compared count as left out.
    first, last
        Dates of its first and last run, RFC 3339; empty if no run says.
    coolest, rise, low, high, unit
        The coolest setup and where it settles; empty where runs cannot be compared.
    """

    study: str
    stamp: str
    title: str
    machine: str
    limit_c: float
    made_up: bool
    setups: int
    runs: int
    left_out: int
    first: str = ""
    last: str = ""
    coolest: str = ""
    rise: float | None = None
    low: float | None = None
    high: float | None = None
    unit: str = ""


class Index:
    """The index of one archive, in a folder of its own."""

    def __init__(self, place: Place) -> None:
        self._place = place

    def known(self) -> dict[str, Indexed]:
        """Return what is indexed, by study; an entry that cannot be read is as none."""
        found = {}
        for path in self._files():
            try:
                with self._place.files.open(path) as file:
                    said = json.loads((pq.read_schema(file).metadata or {})[_SAID])
                entry = Indexed(**{one.name: said.get(one.name, "") for one in fields(Indexed)})
            except (OSError, KeyError, ValueError, TypeError, pa.ArrowException):
                continue
            found[entry.study] = entry
        return found

    def write(self, entry: Indexed, table: pa.Table) -> None:
        """Replace what is known of one study."""
        said = {one.name: getattr(entry, one.name) for one in fields(Indexed)}
        table = table.replace_schema_metadata({_SAID: json.dumps(said).encode()})
        content = BytesIO()
        pq.write_table(table, content, compression="zstd")
        path = self._path(entry.study)
        files = self._place.files
        try:
            files.makedirs(path.rpartition("/")[0], exist_ok=True)
            # Whoever reads at this moment sees the old file or the new one.
            draft = f"{path}.{uuid4().hex}.new"  # two may write at the same time
            files.pipe_file(draft, content.getvalue())
            files.mv(draft, path)
        except OSError as error:
            raise FileError(
                f"the index of the archive cannot be written to {self._place.root} "
                f"({error.strerror or error}). Name another folder for it with --index"
            ) from None

    def forget(self, study: str) -> None:
        """Remove a study that is no longer there."""
        with contextlib.suppress(FileNotFoundError):  # another process was quicker
            self._place.files.rm(self._path(study))

    def dataset(self, studies: list[str]) -> ds.Dataset:
        """Return these studies as one dataset; columns that only some have are empty in the others."""
        system = PyFileSystem(FSSpecHandler(self._place.files))
        paths = [self._path(study) for study in studies]
        schemas = [pq.read_schema(system.open_input_file(path)) for path in paths]
        schema = pa.unify_schemas([pa.schema(COLUMNS), *(s.remove_metadata() for s in schemas)])
        schema = schema.append(pa.field("study", pa.string()))
        parts = ds.partitioning(pa.schema([("study", pa.string())]), flavor="hive")
        return ds.dataset(
            paths, schema=schema, filesystem=system, format="parquet", partitioning=parts,
            partition_base_dir=self._place.root,
        )  # fmt: skip

    def _files(self) -> list[str]:
        try:
            found = self._place.files.glob(f"{self._place.root}/study=*/{_ROWS}")
        except OSError:
            return []
        return [str(path) for path in found]

    def _path(self, study: str) -> str:
        return f"{self._place.root}/study={quote(study, safe='')}/{_ROWS}"


def as_table(
    rows: list[RunRow], left_out: list[tuple[str, str]], *, title: str, machine: str,
    levels: dict[str, dict[str, Any]],
) -> pa.Table:  # fmt: skip
    """Return the runs of a study as lines of the index.

    `levels` is setup to the levels of its factors. Runs that are left out have a line with the reason.
    """
    lines: list[dict[str, Any]] = []
    for row in rows:
        own = {**levels.get(row.setup, {}), **row.factors}
        line: dict[str, Any] = {name: getattr(row, name) for name in (*_WORDS, *_NUMBERS, *_FLAGS)}
        line |= {
            "title": title, "machine": machine, "left_out": OTHER_KINDS.get(row.protocol or ""),
            "started": datetime.fromisoformat(row.started) if row.started else None,
            "row": json.dumps(row.to_dict()),
        }  # fmt: skip
        line |= {f"{FACTOR}{name}": _words(level) for name, level in own.items()}
        lines.append(line)
    for run, why in left_out:
        lines.append({"title": title, "machine": machine, "run": run, "left_out": why})
    factors = sorted({name for line in lines for name in line if name.startswith(FACTOR)})
    schema = pa.schema([*COLUMNS, *((name, pa.string()) for name in factors)])
    return pa.Table.from_pylist(lines, schema=schema)


def _words(level: Any) -> str:
    return f"{level:g}" if isinstance(level, float) else str(level)
