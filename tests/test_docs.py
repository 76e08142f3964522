"""The documentation: guides are followed to the letter, every command can be typed, the site is built."""

import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import click
import numpy as np
import pandas as pd
import pytest

from command_line import ok
from gelassen.cli import cli

ROOT = Path(__file__).parents[1]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]
GUIDES = sorted((ROOT / "docs/guides").glob("*.md"))
BLOCK = re.compile(r'^```(\w+)(?: title="([^"]+)")?\n(.*?)^```$', re.DOTALL | re.MULTILINE)


def commands(text):
    """Return the calls of gelassen in a block of shell, without comments and `sudo`."""
    found = []
    for line in text.replace("\\\n", " ").splitlines():
        words = shlex.split(line, comments=True)
        if words[:1] == ["sudo"]:
            words = words[1:]
        if words[:1] == ["gelassen"]:
            found.append(words[1:])
    return found


@pytest.mark.xdist_group("demo")
@pytest.mark.parametrize("page", GUIDES, ids=lambda page: page.stem)
def test_a_guide_can_be_followed_to_the_letter(page, demo, tmp_path):
    done = 0
    for language, title, text in BLOCK.findall(page.read_text(encoding="utf-8")):
        if title:
            (tmp_path / title).parent.mkdir(exist_ok=True)
            (tmp_path / title).write_text(text, encoding="utf-8")
        elif language == "python":
            subprocess.run(
                [sys.executable, "-P", "-c", text], cwd=tmp_path, check=True, timeout=300
            )
        for words in commands(text) if language == "sh" else ():
            done += 1
            if words == ["demo"]:  # the same for every page
                shutil.copytree(demo[0], tmp_path / "gelassen-demo")
                continue
            assert ok(*words, cwd=tmp_path).strip(), words
    assert done


@pytest.fixture
def readers_folder(demo, tmp_path):
    """Make what the pages take to be there: the sample study, an archive, a log, a small study."""
    shutil.copytree(demo[0], tmp_path / "gelassen-demo")
    shutil.copytree(demo[0], tmp_path / "lab/demo")
    seconds = np.arange(1200.0)
    log = {"time": seconds, "pkg": 62 - 38 * np.exp(-seconds / 200), "room": 0 * seconds + 22}
    pd.DataFrame(log).to_csv(tmp_path / "upright.csv", index=False)
    (tmp_path / "coolers").mkdir()
    (tmp_path / "coolers/study.toml").write_text(
        'format = 1\ntitle = "coolers"\nmade_up = true\n[machine]\nname = "box"\nlimit_c = 95\n'
        '[factors.cooler]\nlevels = ["Brise 120"]\n[setups.tower]\ncooler = "Brise 120"\n'
        '[protocol]\nidle = "30 s"\nsoak = "60 s"\nhold = "30 s"\ncooldown = "10 s"\nrepeats = 1\n'
    )
    return tmp_path


@pytest.mark.xdist_group("demo")
@pytest.mark.parametrize("page", ["README.md", "docs/archive.md", "docs/plans.md"])
def test_python_that_is_shown_runs(page, readers_folder):
    for language, _, text in BLOCK.findall((ROOT / page).read_text(encoding="utf-8")):
        if language == "python":
            command = [sys.executable, "-P", "-c", text]
            subprocess.run(command, cwd=readers_folder, check=True, timeout=300)


def calls():
    for page in PAGES:
        for language, _, text in BLOCK.findall(page.read_text(encoding="utf-8")):
            for words in commands(text) if language == "sh" else ():
                yield pytest.param(words, id=f"{page.stem}: {' '.join(words)}"[:80])


@pytest.mark.parametrize("words", list(calls()))
def test_every_command_that_is_shown_can_be_typed(words):
    context = click.Context(cli, info_name="gelassen")
    name, command, rest = cli.resolve_command(context, words)
    command.make_context(name, list(rest), parent=context)


def test_the_site_is_built_without_a_warning(tmp_path):
    built = subprocess.run(
        [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "--site-dir", tmp_path / "site"],
        cwd=ROOT, capture_output=True, text=True, timeout=300,
    )  # fmt: skip
    assert built.returncode == 0, built.stdout + built.stderr
    api = (tmp_path / "site/api.html").read_text(encoding="utf-8")
    assert "steady_state" in api
    assert "open_study" in api
