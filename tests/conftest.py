"""What holds for every test."""

import pytest


@pytest.fixture(autouse=True)
def state(tmp_path_factory, monkeypatch):
    """Give each test notes of settings, and a machine, of its own; tests run beside each other."""
    folder = tmp_path_factory.mktemp("state")
    monkeypatch.setenv("GELASSEN_STATE", str(folder))
    return folder
