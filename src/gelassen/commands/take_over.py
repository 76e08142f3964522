"""`gelassen import`: logs of other programs become runs."""

from pathlib import Path
from typing import Any

import click


@click.command("import")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--study", type=click.Path(path_type=Path), required=True, help="Study; made if new.")
@click.option("--setup", required=True, help="Setup that was on the bench.")
@click.option("--new-setup", is_flag=True, help="The setup is new to this study.")
@click.option("--limit", "limit_c", type=float, default=None, help="Limit temperature, °C.")
@click.option(
    "--column",
    "pairs",
    multiple=True,
    metavar="HEADER=CHANNEL",
    help='Which column is which channel; "{n}" stands for a number.',
)
@click.option(
    "--columns",
    "mapping",
    type=click.Path(path_type=Path),
    default=None,
    help="TOML file with a section [columns] that says so.",
)
@click.option("--dry-run", is_flag=True, help="Only show what was understood.")
def import_logs(
    files: tuple[Path, ...], study: Path, setup: str, new_setup: bool, limit_c: float | None,
    pairs: tuple[str, ...], mapping: Path | None, dry_run: bool,
) -> None:  # fmt: skip
    """Take over plain CSV logs as runs of a study, one run a file."""
    from gelassen.core.errors import InputError
    from gelassen.intake import read_log, store_import
    from gelassen.intake.columns import read_column_file

    columns: dict[str, Any] = dict(read_column_file(mapping)) if mapping else {}
    for pair in pairs:
        header, sign, channel = pair.rpartition("=")
        if not sign:
            raise InputError(f'--column "{pair}": write it like "pkg temp=cpu.package.temp_c"')
        columns[header.strip()] = channel.strip()
    # All are read before the first is stored: a mistake in the last leaves nothing half done.
    recordings = [(path, read_log(path, columns=columns)) for path in files]
    for path, recording in recordings:
        times = recording.frame.index
        click.echo(f"{path}: {len(times)} samples, {times[0]:g} to {times[-1]:g} s")
        for channel, origin in recording.channels.items():
            click.echo(f"  {origin.header} -> {channel} ({origin.conversion})")
        for caution in recording.cautions:
            click.echo(f"  caution: {caution}")
        if not dry_run:
            folder = store_import(
                recording, path, study, setup=setup, limit_c=limit_c, new_setup=new_setup
            )
            click.echo(f"  stored as {folder}")
