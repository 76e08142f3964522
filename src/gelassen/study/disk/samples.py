"""The samples of a run on disk: lines of CSV while it is recorded, Parquet afterwards.

Both are read and written piece by piece, so that a long run needs disk space and not memory.
"""

import contextlib
import csv
import json
import math
import os
from collections.abc import Iterator
from contextlib import closing
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.channels import is_channel
from gelassen.study.disk.run_file import RUN_FORMAT, RunFile
from gelassen.system.files import draft_of, need_regular, read_bytes

if TYPE_CHECKING:
    import pandas as pd

SAMPLES_CSV, SAMPLES_PARQUET = "samples.csv", "samples.parquet"
_BLOCK_BYTES = 1 << 20
_LONGEST_HEADER = 100_000  # characters: thousands of channels
_MOST_NAMES = 200  # characters of names in a caution
_THREADS_BYTES = 16 << 20
# What the libraries raise for files that others have spoilt.
_UNREADABLE = (OSError, ValueError, LookupError, TypeError, NotImplementedError, csv.Error)


def read_samples(folder: Path) -> tuple["pd.DataFrame | None", list[Caution]]:
    """Read the samples from whichever file has them; the Parquet file only exists when verified."""
    cautions: list[Caution] = []
    for name, read in ((SAMPLES_PARQUET, _read_parquet), (SAMPLES_CSV, read_csv)):
        if not os.path.lexists(folder / name):
            continue
        try:
            frame, torn = read(folder / name)
        except _UNREADABLE as error:
            why = (
                getattr(error, "strerror", None)
                or str(error).split("\n")[0]
                or type(error).__name__
            )
            cautions.append(caution("file_unreadable", file=name, why=why[:120]))
            continue
        if frame.index.name == "t_s":
            frame, more = _tidied(frame, name)
            return frame, [*cautions, *torn, *more]
        cautions.append(caution("no_time_column", file=name))
    return None, cautions


def _tidied(frame: "pd.DataFrame", name: str) -> tuple["pd.DataFrame", list[Caution]]:
    """Return columns of numbers that are channels, in rows with a time: others may have written more."""
    import numpy as np
    import pandas as pd

    cautions = []
    twice = frame.columns.duplicated()
    unnamed = np.array([not is_channel(str(column)) for column in frame.columns], dtype=bool)
    for code, lost in (("columns_of_one_name", twice), ("columns_without_name", unnamed)):
        if lost.any():
            names = ", ".join(dict.fromkeys(f'"{column}"' for column in frame.columns[lost]))
            cautions.append(caution(code, file=name, channels=names[:_MOST_NAMES]))
    frame = frame.loc[:, ~(twice | unnamed)]
    texts = [column for column in frame if not pd.api.types.is_numeric_dtype(frame[column])]
    frame = frame.assign(**{str(one): pd.to_numeric(frame[one], errors="coerce") for one in texts})
    cautions += [caution("column_not_numbers", file=name, channel=str(one)) for one in texts]
    times = pd.to_numeric(frame.index.to_series(), errors="coerce").to_numpy(dtype=float)
    if (lost := ~np.isfinite(times)).any():
        frame = frame[~lost]
        cautions.append(caution("rows_without_time", file=name, count=int(lost.sum())))
    return frame, cautions


def _read_parquet(path: Path) -> tuple["pd.DataFrame", list[Caution]]:
    import pyarrow.parquet as pq

    need_regular(path)
    # Several runs are usually read in parallel. More threads for a small file cost more than they save.
    threads = path.stat().st_size > _THREADS_BYTES
    with pq.ParquetFile(
        path
    ) as file:  # a single file does not need the search for the files of a data set
        table = file.read(use_threads=threads)
    try:
        frame: pd.DataFrame = table.to_pandas(use_threads=threads)
    except (LookupError, TypeError, ValueError):  # what pandas noted beside the columns is damaged
        frame = table.to_pandas(use_threads=threads, ignore_metadata=True)
    if "t_s" in frame.columns:  # written again by a program that keeps no index
        frame = frame.set_index("t_s")
    return frame, []


def read_csv(path: Path) -> tuple["pd.DataFrame", list[Caution]]:
    """Read our own CSV. A torn last line, or a damaged line, is left out with a caution."""
    import pandas as pd
    import pyarrow as pa
    from pyarrow import csv as pa_csv

    data = read_bytes(path)
    cautions: list[Caution] = []
    end = data.rfind(b"\n") + 1
    if end < len(data):
        cautions.append(caution("last_line_torn", file=path.name))
    first = data[:end].split(b"\n", 1)[0].decode("utf-8", "replace")
    header = next(csv.reader([first[:_LONGEST_HEADER]]), [])
    if header[:1] != ["t_s"]:
        raise FileError(
            f'{path}, line 1: the header must begin with "t_s". Is this a run of Gelassen?'
        )
    try:
        table = pa_csv.read_csv(
            pa.BufferReader(data[:end]),
            convert_options=pa_csv.ConvertOptions(
                column_types=dict.fromkeys(header, pa.float64()), null_values=[""]
            ),
        )
        if table.column("t_s").null_count == 0:
            return table.to_pandas().astype(float).set_index("t_s"), cautions
    except (pa.ArrowInvalid, UnicodeDecodeError):
        pass  # some line is damaged: read the others one by one
    good, spoilt = _line_by_line(data[:end], path.name)
    frame = pd.DataFrame(good, columns=header, dtype=float).set_index("t_s")
    return frame, [*cautions, *spoilt]


def _line_by_line(data: bytes, name: str) -> tuple[list[list[float]], list[Caution]]:
    rows = csv.reader(data.decode("utf-8", errors="replace").splitlines())
    width = len(next(rows))
    good: list[list[float]] = []
    cautions: list[Caution] = []
    number = 1
    while True:
        number += 1
        try:
            row = next(rows, None)
            if row is None:
                return good, cautions
            if len(row) != width or not row[0]:
                raise ValueError
            good.append([float(cell) if cell else math.nan for cell in row])
        except (ValueError, csv.Error):  # the second: a cell of more than 131,072 characters
            cautions.append(caution("line_unreadable", file=name, line=number))


def parquet_from_csv(folder: Path, run: RunFile) -> float:
    """Turn `samples.csv` into Parquet, read it back and compare; return the time of the last sample.

    The CSV stays. Raises FileError if the file reads back differently, or if a line of
    the CSV cannot be read: such a file is kept as it is.
    """
    import numpy as np
    import pyarrow.parquet as pq

    source, path = folder / SAMPLES_CSV, folder / SAMPLES_PARQUET
    with draft_of(path) as draft:
        last_s, groups = _write_blocks(source, draft, run)
        with closing(pq.ParquetFile(draft)) as back:
            if back.metadata.num_row_groups != groups:
                raise FileError(f"{draft}: more was written than there is; the CSV is kept")
            for group, (names, arrays) in enumerate(_blocks(source)):
                if group == groups:
                    break  # a file without samples has one empty block and no row group
                table = back.read_row_group(group)
                for name, array in zip(names, arrays, strict=True):
                    if not np.array_equal(table.column(name).to_numpy(), array, equal_nan=True):
                        raise FileError(
                            f"{draft}: what was written does not read back alike; the CSV is kept"
                        )
    return last_s


def load_libraries() -> None:
    """Load the libraries for writing, before the clock of a run starts."""
    for module in ("pandas", "pyarrow.csv", "pyarrow.parquet"):
        import_module(module)


class _RehearsedError(Exception):
    """Ends a rehearsal: its draft must not become the file."""


def rehearse(folder: Path, run: RunFile) -> None:
    """Rehearse `parquet_from_csv` with the samples so far, and leave no file.

    This is done at the start of a run, so that a machine in trouble need not load libraries at its end.
    """
    with contextlib.suppress(_RehearsedError), draft_of(folder / SAMPLES_PARQUET) as draft:
        _write_blocks(folder / SAMPLES_CSV, draft, run)
        raise _RehearsedError


def _write_blocks(source: Path, draft: Path, run: RunFile) -> tuple[float, int]:
    """Write the Parquet file; return the time of the last sample, and how many row groups it has."""
    import pyarrow.parquet as pq

    last_s, groups = 0.0, 0
    blocks = _blocks(source)
    names, arrays = next(blocks)
    schema = _schema(names, run)
    # The file is always closed. A full disk needs its space.
    with pq.ParquetWriter(draft, schema, write_statistics=False) as writer:
        while True:
            if len(arrays[0]):
                writer.write_batch(_batch(names, arrays, schema))
                last_s, groups = float(arrays[0][-1]), groups + 1
            following = next(blocks, None)
            if following is None:
                return last_s, groups
            names, arrays = following


def last_time_s(folder: Path) -> float:
    """Return the time of a run's last sample so far, in s; 0 if there is none."""
    if not (folder / SAMPLES_PARQUET).exists():
        return last_csv_time_s(folder / SAMPLES_CSV)
    import pyarrow.parquet as pq

    file = pq.ParquetFile(folder / SAMPLES_PARQUET)
    if file.metadata.num_rows == 0:
        return 0.0
    last = file.read_row_group(file.metadata.num_row_groups - 1, columns=["t_s"])
    return float(last.column("t_s")[-1].as_py())


def last_csv_time_s(path: Path) -> float:
    """Return the time of the last whole line; 0 if there is none."""
    if not path.exists():
        return 0.0
    with path.open("rb") as stream:
        stream.seek(max(path.stat().st_size - (1 << 16), 0))
        lines = stream.read().split(b"\n")[:-1]
    try:
        return float(lines[-1].split(b",")[0])
    except (IndexError, ValueError):
        return 0.0


def write_parquet(frame: "pd.DataFrame", path: Path, run: RunFile) -> None:
    """Write a whole table next to its target and read it back. Only then is it renamed to the target."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    table = pa.Table.from_pandas(frame)
    with draft_of(path) as draft:
        pq.write_table(
            table.replace_schema_metadata({**(table.schema.metadata or {}), **_metadata(run)}),
            draft,
            write_statistics=False,
        )
        if not pq.read_table(draft).equals(table):
            raise FileError(
                f"{path}: what was written does not read back alike; nothing was changed"
            )


def _blocks(path: Path) -> Iterator[tuple[list[str], list[Any]]]:
    """Yield the CSV in pieces, at least one: the names, and one array of floats for each name.

    The pieces are cut here, as the library's own stream reader keeps many of them in memory.
    """
    import numpy as np
    import pyarrow as pa
    from pyarrow import csv as pa_csv

    with path.open("rb") as stream:
        names = stream.readline().decode("utf-8").rstrip("\n").split(",")
        read = pa_csv.ReadOptions(column_names=names, use_threads=False)
        convert = pa_csv.ConvertOptions(
            column_types=dict.fromkeys(names, pa.float64()), null_values=[""]
        )
        first = True
        while (piece := stream.read(_BLOCK_BYTES) + stream.readline()) or first:
            first = False
            if not piece:
                yield names, [np.empty(0) for _ in names]
                return
            try:
                table = pa_csv.read_csv(
                    pa.BufferReader(piece), read_options=read, convert_options=convert
                )
            except pa.ArrowInvalid as error:
                raise FileError(
                    f"{path} has a line that cannot be read ({error}); it is kept"
                ) from None
            yield names, [column.to_numpy() for column in table.columns]
            del table
            pa.default_memory_pool().release_unused()


def _schema(names: list[str], run: RunFile) -> Any:
    """Return the schema pandas would write for a table of floats with the index `t_s`."""
    import pandas as pd
    import pyarrow as pa

    empty = pd.DataFrame({name: pd.Series(dtype=float) for name in names}).set_index("t_s")
    schema = pa.Table.from_pandas(empty).schema
    return schema.with_metadata({**(schema.metadata or {}), **_metadata(run)})


def _batch(names: list[str], arrays: list[Any], schema: Any) -> Any:
    import pyarrow as pa

    by_name = dict(zip(names, arrays, strict=True))
    return pa.record_batch([pa.array(by_name[name]) for name in schema.names], schema=schema)


def _metadata(run: RunFile) -> dict[bytes, bytes]:
    return {
        b"gelassen.format": str(RUN_FORMAT).encode(),
        b"gelassen.made_up": str(run.made_up).lower().encode(),
        b"gelassen.channels": json.dumps(
            {name: origin.model_dump() for name, origin in run.channels.items()}
        ).encode(),
    }
