"""Makes the pictures in docs/screenshots from the sample study: ``python docs/make_pictures.py``.

Figures come from `gelassen.figures`. Pages and terminal views are drawn by a headless Chromium; without
one, those pictures stay as they are. A few pictures of other data (a coolant, a captured machine) are not
made here.
"""

import html
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from PIL import Image, ImageChops

from gelassen import open_study, summarise_run
from gelassen.answers import CurveQuestion
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct.demo import make_demo
from gelassen.conduct.fan_sweep import sweep_fans
from gelassen.conduct.scenarios import SCENARIOS
from gelassen.figures import capacity, loads, plot, run, runs, setups, sweep
from gelassen.figures.canvas import save

HERE = Path(__file__).parent / "screenshots"
COMMAND = [sys.executable, "-P", "-c", "from gelassen.cli import main; main()"]
LIMITED, EXTRAPOLATED = "010-kiesel-92-on-air-125-w", "001-tarn-240-on-air-65-w"


def cropped(path: Path) -> None:
    """Cut a picture to its content, with a small margin."""
    image = Image.open(path).convert("RGB")
    background = Image.new("RGB", image.size, image.getpixel((0, 0)))
    box = ImageChops.difference(image, background).getbbox()
    if box:
        margin = 12
        low = (max(box[0] - margin, 0), max(box[1] - margin, 0))
        high = (min(box[2] + margin, image.width), min(box[3] + margin, image.height))
        image.crop((*low, *high)).save(path, optimize=True)


def page(address: str, name: str, size: tuple[int, int]) -> None:
    """Draw a page."""
    chromium = shutil.which("chromium")
    if chromium is None:
        print(f"no Chromium here: {name} stays as it is")
        return
    path = HERE / name
    options = ["--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars"]
    window = f"--window-size={size[0]},{size[1]}"
    command = [chromium, *options, window, f"--screenshot={path}", address]
    subprocess.run(command, check=True, capture_output=True)
    cropped(path)


def terminal(arguments: list[str], name: str, folder: Path, lines: int = 46) -> None:
    """Draw what a command prints."""
    done = subprocess.run(
        [*COMMAND, *arguments], capture_output=True, text=True, cwd=folder, check=True
    )
    shown = "\n".join([f"$ gelassen {' '.join(arguments)}", *done.stdout.splitlines()[:lines]])
    text = (
        "<meta charset=utf-8><body style='margin:12px;background:#111;color:#ddd'>"
        "<pre style='font:13px/1.35 DejaVu Sans Mono,monospace;white-space:pre-wrap;max-width:1100px'>"
        f"{html.escape(shown)}</pre>"
    )
    view = folder / "view.html"
    view.write_text(text, encoding="utf-8")
    page(view.as_uri(), name, (1280, 900))


def main() -> None:
    """Make all pictures."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        study = open_study(make_demo(folder / "gelassen-demo"))
        save(setups(study.compare()), HERE / "comparison.png")
        save(capacity(study.capacity()), HERE / "capacity.png")
        quiet = CurveQuestion(powers_w=[95], rooms_c=[22, 30], quietest_below_c=78)
        save(plot(study.curves(quiet)), HERE / "curve.png")
        swept = sweep_fans(SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"]))
        save(sweep(swept["fan.cpu.duty_pct"].fans, made_up=True), HERE / "sweep.png")
        save(study.figures()["effects"], HERE / "effects.png")
        for name, picture in ((LIMITED, "run.png"), (EXTRAPOLATED, "run-extrapolated.png")):
            recording = study.run(name)
            save(run(recording, summarise_run(recording, limit_c=95)), HERE / picture)
        save(runs([study.run("10"), study.run("12"), study.run("4")]), HERE / "runs.png")
        workloads = SCENARIOS["programs"].make(folder / "programs")
        save(loads(open_study(workloads).loads()), HERE / "loads.png")
        terminal(["compare", "gelassen-demo", "--no-figure"], "terminal-compare.png", folder)
        shown = ["show", f"gelassen-demo/runs/{LIMITED}", "--no-figure"]
        terminal(shown, "terminal-show.png", folder)
        subprocess.run(
            [*COMMAND, "report", "gelassen-demo"], check=True, capture_output=True, cwd=folder
        )
        page((folder / "gelassen-demo/report.html").as_uri(), "report.png", (1280, 1400))


if __name__ == "__main__":
    main()
