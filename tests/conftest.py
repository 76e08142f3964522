"""What holds for every test."""

import os
import shutil
import sys

import pytest

from command_line import gelassen_apart

# Tests start hundreds of short processes. Each would compile the whole program anew.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
# Several tests run beside each other. More threads in each would only wait for each other.
os.environ.setdefault("OMP_NUM_THREADS", "1")
sys.dont_write_bytecode = False


@pytest.fixture(autouse=True)
def state(tmp_path_factory, monkeypatch):
    """Give each test notes of settings, and a machine, of its own; tests run beside each other."""
    folder = tmp_path_factory.mktemp("state")
    monkeypatch.setenv("GELASSEN_STATE", str(folder))
    monkeypatch.setenv("GELASSEN_CACHE", "")  # an answer that is kept would hide what is tested
    return folder


@pytest.fixture(scope="session")
def demo(tmp_path_factory):
    """Return the sample study and what was said when it was made, as a process of its own."""
    folder = tmp_path_factory.mktemp("place") / "demo study"
    done = gelassen_apart("demo", folder)
    assert done.returncode == 0, done.stderr
    return folder, done.stdout


@pytest.fixture(scope="module")
def browser():
    """Give a headless Chromium."""
    driver = shutil.which("chromedriver")
    if driver is None or shutil.which("chromium") is None:
        pytest.skip("needs Chromium and its driver")
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    options = webdriver.ChromeOptions()
    for argument in ("--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage"):
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    one = webdriver.Chrome(options=options, service=Service(driver))
    yield one
    one.quit()
