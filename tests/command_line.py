"""The command line, called within the test's process: starting Python a hundred times takes minutes."""

import contextlib
import io
import subprocess
import sys
import unittest.mock
from types import SimpleNamespace

import pytest

from gelassen.cli import main

AS_A_PROCESS = (sys.executable, "-P", "-c", "from gelassen.cli import main; main()")


def gelassen(*arguments, cwd=None):
    out, err = io.StringIO(), io.StringIO()
    with (
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
        contextlib.chdir(cwd or "."),
        unittest.mock.patch.object(sys, "argv", ["gelassen", *map(str, arguments)]),
        pytest.raises(SystemExit) as left,
    ):
        main()
    return SimpleNamespace(returncode=left.value.code, stdout=out.getvalue(), stderr=err.getvalue())


def gelassen_apart(*arguments, **options):
    """Call it as a process of its own, as people do."""
    command = [*AS_A_PROCESS, *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, timeout=300, **options)


def ok(*arguments, cwd=None):
    done = gelassen(*arguments, cwd=cwd)
    assert done.returncode == 0, done.stderr
    return done.stdout
