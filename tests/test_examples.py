import subprocess
import sys
from pathlib import Path

import pytest

EXAMPLES = Path(__file__).parent.parent / "examples"


@pytest.mark.parametrize("name", sorted(path.name for path in EXAMPLES.glob("*.py")))
def test_every_example_runs_and_marks_its_data(name):
    done = subprocess.run(
        [sys.executable, str(EXAMPLES / name)], capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stderr
    assert "made-up sample data" in done.stdout
    assert "settles at" in done.stdout or "2 runs" in done.stdout
