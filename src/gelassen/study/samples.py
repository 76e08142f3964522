"""The samples of a run on disk: lines of CSV while it is recorded, Parquet afterwards.

Both are read and written piece by piece, so that the length of a run costs disk and not memory.
"""

import csv
import json
import math
import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from gelassen.core.errors import FileError
from gelassen.study.runfile import RUN_FORMAT, RunFile

if TYPE_CHECKING:
    import pandas as pd

SAMPLES_CSV, SAMPLES_PARQUET = "samples.csv", "samples.parquet"
_BLOCK_BYTES = 4 << 20


def read_samples(folder: Path) -> tuple["pd.DataFrame | None", list[str]]:
    """Read the samples from whichever file has them; the Parquet file only exists when verified."""
    import pandas as pd

    cautions: list[str] = []
    if (folder / SAMPLES_PARQUET).exists():
        try:
            frame = pd.read_parquet(folder / SAMPLES_PARQUET)
            return frame, cautions
        except (OSError, ValueError) as error:
            cautions.append(f"{SAMPLES_PARQUET} cannot be read ({type(error).__name__})")
    if (folder / SAMPLES_CSV).exists():
        frame, torn = read_csv(folder / SAMPLES_CSV)
        return frame, [*cautions, *torn]
    return None, cautions


def read_csv(path: Path) -> tuple["pd.DataFrame", list[str]]:
    """Read our own CSV; a torn last line, or one that is spoilt, is left out and said."""
    import pandas as pd
    import pyarrow as pa
    from pyarrow import csv as pa_csv

    data = path.read_bytes()
    cautions = []
    end = data.rfind(b"\n") + 1
    if end < len(data):
        cautions.append(f"the last line of {path.name} is torn: left out")
    header = next(csv.reader([data[:end].split(b"\n", 1)[0].decode("utf-8", "replace")]), [])
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
    except pa.ArrowInvalid:
        pass  # some line is spoilt: take the others one by one
    good, spoilt = _line_by_line(data[:end], path.name)
    frame = pd.DataFrame(good, columns=header, dtype=float).set_index("t_s")
    return frame, [*cautions, *spoilt]


def _line_by_line(data: bytes, name: str) -> tuple[list[list[float]], list[str]]:
    rows = csv.reader(data.decode("utf-8", errors="replace").splitlines())
    width = len(next(rows))
    good: list[list[float]] = []
    cautions = []
    for number, row in enumerate(rows, start=2):
        try:
            if len(row) != width or not row[0]:
                raise ValueError
            good.append([float(cell) if cell else math.nan for cell in row])
        except ValueError:
            cautions.append(f"{name}, line {number} cannot be read: left out")
    return good, cautions


def parquet_from_csv(folder: Path, run: RunFile) -> float:
    """Turn `samples.csv` into Parquet, read it back and compare; return the time of the last sample.

    The CSV stays. Raises FileError if what was written does not read back alike, or if a line of
    the CSV cannot be read: such a file is kept as it is.
    """
    import numpy as np
    import pyarrow.parquet as pq

    source, path = folder / SAMPLES_CSV, folder / SAMPLES_PARQUET
    draft = path.with_suffix(".parquet.part")
    last_s = 0.0
    try:
        schema = None
        writer = None
        for names, arrays in _blocks(source):
            if writer is None:
                schema = _schema(names, run)
                writer = pq.ParquetWriter(draft, schema)
            writer.write_batch(_batch(names, arrays, schema))
            last_s = float(arrays[0][-1]) if len(arrays[0]) else last_s
        assert writer is not None  # noqa: S101  even a file without samples has one block
        writer.close()
        back = pq.ParquetFile(draft)
        group = 0
        for names, arrays in _blocks(source):
            if len(arrays[0]) == 0:
                continue
            table = back.read_row_group(group)
            group += 1
            for name, array in zip(names, arrays, strict=True):
                read = table.column(name).to_numpy()
                if not np.array_equal(read, array, equal_nan=True):
                    raise FileError(
                        f"{draft}: what was written does not read back alike; the CSV is kept"
                    )
        if back.metadata.num_row_groups != group:
            raise FileError(f"{draft}: more was written than there is; the CSV is kept")
        with draft.open("rb") as stream:
            os.fsync(stream.fileno())
        draft.replace(path)
    except BaseException:
        draft.unlink(missing_ok=True)
        raise
    return last_s


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
    """Write a whole table next to its target, read it back, and only then give it its name."""
    import pandas as pd
    import pyarrow as pa
    import pyarrow.parquet as pq

    draft = path.with_suffix(".parquet.part")
    table = pa.Table.from_pandas(frame)
    pq.write_table(
        table.replace_schema_metadata({**(table.schema.metadata or {}), **_metadata(run)}), draft
    )
    if not pd.read_parquet(draft).equals(frame):
        raise FileError(f"{draft}: what was written does not read back alike; nothing was changed")
    with draft.open("rb") as stream:
        os.fsync(stream.fileno())
    draft.replace(path)


def _blocks(path: Path) -> Iterator[tuple[list[str], list[Any]]]:
    """Yield the CSV in pieces: names, and one array of floats for each; at least one piece."""
    import numpy as np
    import pyarrow as pa
    from pyarrow import csv as pa_csv

    with path.open("rb") as stream:
        names = stream.readline().decode("utf-8").rstrip("\n").split(",")
        if not stream.read(1):
            yield names, [np.empty(0) for _ in names]
            return
    try:
        reader = pa_csv.open_csv(
            path,
            read_options=pa_csv.ReadOptions(block_size=_BLOCK_BYTES, use_threads=False),
            convert_options=pa_csv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.float64()), null_values=[""]
            ),
        )
        for batch in reader:
            yield names, [column.to_numpy(zero_copy_only=False) for column in batch.columns]
    except pa.ArrowInvalid as error:
        raise FileError(f"{path} has a line that cannot be read ({error}); it is kept") from None


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
