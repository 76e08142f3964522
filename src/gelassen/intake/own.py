"""Reads files that Gelassen wrote: run folders, and samples outside a run folder."""

from pathlib import Path
from typing import Any

import pandas as pd

from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.channels import parse_channel
from gelassen.core.recording.recording import Origin, Recording
from gelassen.intake.meaning.columns import TIME
from gelassen.intake.understanding import LogOptions, Understanding, understood
from gelassen.study.disk.archive import read_run
from gelassen.study.disk.samples import SAMPLES_CSV, SAMPLES_PARQUET
from gelassen.study.disk.writer import RUN_JSON


class OwnRun:
    """A run folder, given by its path or by its samples."""

    def sniff(self, path: Path) -> bool:
        """Take folders, and samples beside a `run.json`."""
        samples = path.name in (SAMPLES_CSV, SAMPLES_PARQUET)
        return path.is_dir() or (samples and (path.parent / RUN_JSON).exists())

    def read(self, path: Path, columns: Any, options: LogOptions) -> Understanding:
        """Read the run as far as possible."""
        return understood(read_run(path if path.is_dir() else path.parent))


class OwnParquet:
    """Samples in Parquet outside a run folder."""

    def sniff(self, path: Path) -> bool:
        """Take Parquet files whose columns are our channels over our time."""
        if path.suffix != ".parquet" or not path.is_file():
            return False
        import pyarrow.parquet as pq

        try:
            names = pq.read_schema(path).names
            for name in names:
                if name != TIME:
                    parse_channel(name)
        except (OSError, ValueError):
            return False
        return TIME in names

    def read(self, path: Path, columns: Any, options: LogOptions) -> Understanding:
        """Read the samples; nothing else is known of their run."""
        try:
            frame = pd.read_parquet(path)
        except (OSError, ValueError) as error:
            raise FileError(f"{path} cannot be read as Parquet: {error}") from None
        if frame.index.name != TIME and TIME in frame.columns:
            frame = frame.set_index(TIME)
        return understood(
            Recording(
                frame=frame.astype(float),
                channels={str(name): Origin(str(name)) for name in frame.columns},
                name=path.stem,
                outcome="imported",
            )
        )
