"""`gelassen channels`: what this machine offers."""

from pathlib import Path

import click

from gelassen.commands.common import format_option, sysfs_option


@click.command()
@sysfs_option
@format_option
def channels(sysfs: Path | None, form: str) -> None:
    """List what this machine offers, and what is missing."""
    import json
    import math

    from gelassen.bench import MachineBench
    from gelassen.core.channels import parse_channel
    from gelassen.show.channel_table import channels_text
    from gelassen.show.numbers import fixed
    from gelassen.show.tables import markdown

    bench = MachineBench(sysfs=sysfs)
    bench.read()
    bench.sleep(0.5 if sysfs is None else 0.0)  # power and load need two readings
    values = bench.read()
    rows = []
    for info in bench.channels():
        channel = parse_channel(info.name)
        digits = 0 if channel.unit in ("mhz", "rpm", "count") else 1
        value = values.get(info.name, math.nan)
        step = "" if info.resolution is None else f"{info.resolution:g}"
        rows.append(
            (info.name, fixed(value, digits, channel.symbol), step, info.what, info.problem)
        )
    if form == "text":
        click.echo(channels_text(rows, bench.missing()))
        return
    infos = list(bench.channels())
    if form == "json":
        content = [
            {
                "channel": i.name, "value": None if math.isnan(v := values.get(i.name, math.nan)) else v,
                "what": i.what, "source": i.source, "resolution": i.resolution,
                "readable": i.readable, "problem": i.problem,
            }
            for i in infos
        ]  # fmt: skip
        missing = [{"what": what, "why": why} for what, why in bench.missing()]
        click.echo(
            json.dumps({"channels": content, "missing": missing}, indent=2, ensure_ascii=False)
        )
        return
    header = ("channel", "now", "step", "what it is", "problem")
    if form == "markdown":
        click.echo(markdown(header, rows))
        return
    import pandas as pd

    from gelassen.show.tables import as_csv

    click.echo(as_csv(pd.DataFrame(rows, columns=list(header))))
