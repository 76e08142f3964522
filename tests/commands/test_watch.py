"""A run watched from a browser: read-only, with a token where others can reach it."""

import json
import urllib.error
import urllib.request

import pytest

from command_line import gelassen, gelassen_apart
from gelassen.core import InputError
from gelassen.study.disk.run_file import RunFile
from gelassen.study.disk.writer import RunWriter, new_run_folder
from gelassen.watch.access import Address, parse_address
from gelassen.watch.live_state import LiveRuns
from gelassen.watch.serving import served
from small_study import small_study

HOSTILE = '<img src=x onerror="document.title=1"> $x$'
STUDY = f"""format = 1
title = '''{HOSTILE}'''
made_up = true
[machine]
name = "Playout box"
limit_c = 95
"""
CORE = "cpu.core0.temp_c"


@pytest.fixture
def recording(tmp_path):
    """Give a study in which a run is being recorded."""
    folder = tmp_path / "study"
    folder.mkdir()
    (folder / "study.toml").write_text(STUDY)
    run = new_run_folder(folder / "runs", "one")
    writer = RunWriter.create(run, [CORE], RunFile(setup=HOSTILE))
    writer.phase("soak", 0.0)
    for second in range(30):
        writer.sample(float(second), {CORE: 40.0 + second})
    writer.event(12.0, HOSTILE)
    yield folder, writer
    writer.close()


def asked(url, **options):
    """Return status and headers of an answer."""
    try:
        with urllib.request.urlopen(urllib.request.Request(url, **options), timeout=30) as answer:
            return answer.status, answer.headers, answer.read()
    except urllib.error.HTTPError as error:
        return error.code, error.headers, b""


def test_the_page_follows_a_run_and_names_are_inert(recording, browser):
    folder, writer = recording
    with served(folder, Address()) as url:
        browser.set_window_size(360, 800)
        browser.get(url)
        wait = browser_wait(browser)
        wait.until(lambda _: "soak for 0:29" in shown(browser, "phase"))
        assert browser.title == f"soak: {HOSTILE}"
        assert HOSTILE in shown(browser, "messages")
        assert "hottest core\n69.0 °C" in shown(browser, "now")
        writer.sample(30.0, {CORE: 75.0})
        wait.until(lambda _: "75.0 °C" in shown(browser, "now"))
        width = "return document.documentElement.scrollWidth - window.innerWidth"
        assert browser.execute_script(width) <= 0
        assert browser.find_elements("css selector", "img") == []
        assert browser.find_elements("css selector", "#charts canvas")
        assert [e for e in browser.get_log("browser") if e["level"] == "SEVERE"] == []


def browser_wait(browser):
    from selenium.webdriver.support.ui import WebDriverWait

    return WebDriverWait(browser, 60)


def shown(browser, place):
    return browser.find_element("id", place).text


def test_others_need_the_token_and_nobody_can_change_anything(recording):
    folder, _ = recording
    with served(folder, Address("0.0.0.0", 0)) as url:
        place, _, token = url.rpartition("?token=")
        place = f"http://127.0.0.1:{place.rsplit(':', 1)[1]}"
        assert len(token) > 20
        for path in ("", "state", "events"):
            assert asked(f"{place}{path}")[0] == 403
            assert asked(f"{place}{path}?token={token[:-1]}")[0] == 403
        status, headers, page = asked(f"{place}?token={token}")
        assert status == 200
        assert token.encode() not in page
        assert headers["Referrer-Policy"] == "no-referrer"
        assert "default-src 'none'" in headers["Content-Security-Policy"]
        state = json.loads(asked(f"{place}state?token={token}")[2])
        assert (state["going"], state["phase"], state["made_up"]) == (True, "soak", True)
        for method in ("POST", "PUT", "DELETE"):
            assert asked(f"{place}?token={token}", method=method)[0] == 405


def test_on_this_machine_a_foreign_name_is_not_answered(recording):
    with served(recording[0], Address()) as url:
        assert "token" not in url
        assert asked(url)[0] == 200
        assert asked(url, headers={"Host": "elsewhere.example"})[0] == 400


def test_addresses_are_checked():
    assert parse_address("[::1]:8080") == Address("::1", 8080)
    for wrong in ("8080", "host", "host:99999", ":80"):
        with pytest.raises(InputError, match="is no address"):
            parse_address(wrong)
    taken = gelassen("watch", "/", "--at", "192.0.2.1:80")
    assert taken.returncode == 2
    assert "192.0.2.1:80 cannot be listened on" in taken.stderr
    assert gelassen("watch", "/nowhere").returncode == 2


def test_the_newest_run_is_shown_and_what_cannot_be_read_is_said(tmp_path):
    assert LiveRuns(tmp_path).state().problem == "no run has begun yet"
    study = small_study(tmp_path / "study")
    state = LiveRuns(study).state()
    assert (state.run, state.going, state.outcome) == ("004-low", False, "finished")
    assert "settles at" in state.estimate
    (study / "study.toml").write_text("format = ")
    assert "study.toml" in LiveRuns(study).state().problem


def test_a_run_serves_its_page_and_takes_it_down(tmp_path):
    (tmp_path / "study.toml").write_text(
        STUDY + '[factors.cooler]\nlevels = ["Brise 120"]\n[setups.tower]\ncooler = "Brise 120"\n'
        '[protocol]\nidle = "10 s"\nsoak = "60 s"\nhold = "30 s"\ncooldown = "10 s"\nrepeats = 1\n'
    )
    done = gelassen_apart(
        "run", tmp_path, "--yes", "--simulate", "100000", "--watch", "127.0.0.1:0"
    )
    assert done.returncode == 0, done.stderr
    [url] = [word for word in done.stderr.split() if word.startswith("http://127.0.0.1:")]
    with pytest.raises(urllib.error.URLError):
        urllib.request.urlopen(url, timeout=5)
