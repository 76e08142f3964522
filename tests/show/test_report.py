"""The page in a real browser: it works without a network, on any screen, and obeys no name."""

import json
import re
import shutil

import numpy as np
import pytest
from PIL import Image

from command_line import gelassen, ok
from gelassen.core.signal.thinning import thinned
from small_study import small_study

pytestmark = pytest.mark.xdist_group("report")
HOSTILE = '<img src=x onerror="document.title=1"></script><b>$x_{^$ "q"'


@pytest.fixture(scope="module")
def page(tmp_path_factory):
    """A study with a hostile setup, a photo, a missing run, and its page."""
    study = small_study(tmp_path_factory.mktemp("report") / "study")
    text = (study / "study.toml").read_text()
    quoted = json.dumps(HOSTILE)
    text = text.replace("[setups.low]", f"[setups.{quoted}]").replace(
        "title = ", f"question = {quoted}\ntitle = "
    )
    photo = study / "cooler.png"
    Image.new("RGB", (1600, 1200), "grey").save(photo)
    factor = (
        '\n[factors.cooler]\nlevels = ["Brise"]\n'
        'details."Brise" = { price = 45, photo = "cooler.png" }\n'
        '[factors.other]\nlevels = ["x"]\ndetails."x" = { photo = "../outside.png" }\n'
    )
    (study / "study.toml").write_text(text + factor)
    shutil.copy(photo, study.parent / "outside.png")
    for run in (study / "runs").iterdir():
        path = run / "run.json"
        path.write_text(path.read_text().replace('"low"', quoted))
    (study / "runs/005-empty").mkdir()
    ok("report", study, "--out", study / "page.html")
    return study / "page.html"


def test_the_page_is_whole_small_and_says_what_it_may_load(page):
    text = page.read_text()
    assert len(text) < 5e6
    assert not re.search(r"""(src|href)=["']?(https?:)?//""", text)
    assert "default-src 'none'" in text.replace("&#39;", "'")
    assert text.count("data:image/jpeg") == 1  # the photo outside the study is not taken
    assert "made-up sample data" in text
    data = json.loads(text.split('id="data">')[1].split("</script>")[0])
    assert {one["run"] for one in data["runs"]} == {"001-tower", "002-tower", "003-low", "004-low"}
    assert data["answer"]["setups"]


def test_markdown_has_real_tables_and_a_picture_beside_it(page):
    out = page.parent / "report.md"
    ok("report", page.parent, "--format", "markdown", "--out", out)
    text = out.read_text()
    assert "](report.png)" in text
    assert (page.parent / "report.png").exists()
    assert re.search(r"^\| ?setup", text, re.MULTILINE)
    assert (
        gelassen("report", page.parent, "--out", page.parent / "no/such/page.html").returncode == 2
    )


def test_thinning_loses_no_extreme():
    times = np.arange(10_000.0)
    values = np.sin(times / 300)
    values[[1234, 7777]] = 9.0, -9.0
    t, kept = thinned(times, values, 400)
    assert t.size <= 400
    assert (kept.max(), kept.min()) == (9.0, -9.0)
    assert (np.diff(t) > 0).all()
    assert (t[0], t[-1]) == (0, 9999)


def test_tables_sort_and_filter_and_traces_toggle_and_overlay(page, browser):
    from selenium.webdriver.common.by import By
    from selenium.webdriver.support.ui import Select

    browser.set_window_size(1280, 800)
    browser.get(page.as_uri())
    assert browser.title != "1"  # no name was obeyed
    assert browser.find_elements(By.CSS_SELECTOR, "main b, main img[src=x]") == []
    handlers = "[...e.attributes].some(a => a.name.startsWith('on'))"
    assert browser.execute_script(
        f"return [...document.querySelectorAll('*')].filter(e => {handlers}).length"
    ) == 0  # fmt: skip
    first = browser.find_element(By.CSS_SELECTOR, "table.filtered")

    def column(number):
        rows = first.find_elements(By.CSS_SELECTOR, "tbody tr")
        cells = [row.find_elements(By.TAG_NAME, "td")[number] for row in rows if row.is_displayed()]
        return [cell.text for cell in cells]

    rise = first.find_elements(By.CSS_SELECTOR, "th button")[1]
    orders = []
    for _ in range(2):
        rise.click()
        orders.append([float(re.sub(r"[^\d.]", "", text)) for text in column(1)])
    assert orders[0] == sorted(orders[0]) == orders[1][::-1]
    browser.find_element(By.ID, "filter").send_keys("tower")
    assert column(0) == ["tower"]

    def series():
        return browser.execute_script(
            "return document.querySelectorAll('#charts .u-series').length"
        )

    alone = series()
    browser.find_element(By.CSS_SELECTOR, "#channels input").click()
    assert series() < alone
    Select(browser.find_element(By.ID, "second")).select_by_value("003-low")
    assert series() > alone
    assert "(B)" in browser.find_element(By.ID, "charts").text
    errors = [entry for entry in browser.get_log("browser") if entry["level"] == "SEVERE"]
    assert errors == []


@pytest.mark.parametrize("width", [360, 800, 1280])
def test_nothing_overflows_and_no_barrier_is_found(page, browser, width):
    from axe_selenium_python import Axe

    browser.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": width < 500},
    )
    browser.get(page.as_uri())
    wide = browser.execute_script("return document.documentElement.scrollWidth")
    assert wide <= width
    browser.execute_cdp_cmd("Page.setBypassCSP", {"enabled": True})
    axe = Axe(browser)
    axe.inject()
    found = axe.run()["violations"]
    serious = [
        (one["id"], one["nodes"][0]["html"][:100])
        for one in found
        if one["impact"] in ("serious", "critical")
    ]
    assert serious == []


def test_it_prints_whole(page, browser):
    import base64

    browser.get(page.as_uri())
    printed = browser.execute_cdp_cmd("Page.printToPDF", {"printBackground": True})
    assert len(base64.b64decode(printed["data"])) > 50_000
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
    wide = browser.execute_script("return [document.documentElement.scrollWidth, innerWidth]")
    assert wide[0] <= wide[1]
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": ""})
