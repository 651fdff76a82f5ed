"""Pictures of the main commands on the sample, in a real terminal window on a screen that is not there.

Needs Xvfb, xterm, script, ImageMagick's `import` and Chromium; run by `make screenshots`.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
PROGRAM = Path(sys.executable).with_name("fenrask")
DISPLAY = ":97"
MOST_ROWS = 120
SHOTS = {
    "demo": "demo here",
    "start": "start mine --from inventory records.csv.gz names.zone bill.csv",
    "check": "check",
    "path": "path",
    "demand": "demand",
    "capacity": "capacity",
    "addresses": "addresses",
    "charges": "charges",
    "compare": "compare",
    "choose": "choose",
    "stress": "stress",
    "simulate": "simulate --exit gate-a --around 1",
    "handover": "handover --set exits.gate-a.addresses=4 --base estate.yaml",
    "rehearse": "rehearse",
    "confirm": "confirm observed.csv --bill bill.csv",
}
FIGURES = {
    "paths": "path --figure",
    "schedule": "schedule --figure",
    "measured": "measure records.csv.gz --figure",
}


def _take(name: str, arguments: str, folder: Path) -> None:
    """One picture: what a command prints, under the command itself, in a terminal as tall as that."""
    done, said = folder / "done", folder / "said"
    done.unlink(missing_ok=True)
    # `script` gives the program a terminal, so that it prints as it does for a person.
    # How far it is stands on stderr, and goes when it is done: but for `start`, which says there what it wrote.
    aside = "" if name == "start" else " 2>/dev/null"
    words = ["script", "-qec", f"stty cols 120; {PROGRAM} {arguments}{aside}", "/dev/null"]
    with said.open("wb") as file:
        subprocess.run(words, cwd=folder, check=False, stdout=file, stdin=subprocess.DEVNULL)
    rows = min(MOST_ROWS, len(said.read_bytes().splitlines()) + 2)
    line = f"printf '$ fenrask {arguments}\\n'; head -n {rows - 2} {said}; touch {done}; sleep 60"
    font = ["-fa", "DejaVu Sans Mono", "-fs", "12", "-fg", "#1a1a1a", "-bg", "#ffffff"]
    command = ["xterm", *font, "-geometry", f"126x{rows + 2}+0+0", "-b", "8", "+sb", "-e", "sh", "-c", line]
    terminal = subprocess.Popen(command, cwd=folder, env={**os.environ, "DISPLAY": DISPLAY, "TERM": "xterm-256color"})
    for _ in range(900):
        if done.exists():
            break
        time.sleep(0.1)
    time.sleep(0.5)
    picture = str(HERE / f"{name}.png")
    subprocess.run(["import", "-display", DISPLAY, "-window", "root", picture], check=True)
    # What is around the text goes: first the bare screen, then the empty rest of the window.
    for background in ("black", "white"):
        subprocess.run(["mogrify", "-bordercolor", background, "-border", "1", "-trim", "+repage", picture], check=True)
    subprocess.run(["mogrify", "-bordercolor", "white", "-border", "14", picture], check=True)
    terminal.kill()
    terminal.wait()


def main() -> None:
    """Take every picture again."""
    missing = [tool for tool in ("Xvfb", "xterm", "script", "import", "mogrify", "chromium") if not shutil.which(tool)]
    if missing:
        sys.exit(f"missing: {', '.join(missing)}")
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x2600x24"], stderr=subprocess.DEVNULL)
    time.sleep(2)
    try:
        with tempfile.TemporaryDirectory() as holder:
            folder = Path(holder)
            subprocess.run([str(PROGRAM), "demo", "."], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            for name, arguments in FIGURES.items():
                command = [str(PROGRAM), *arguments.split(), str(HERE / f"{name}.png"), "--force", "--quiet"]
                subprocess.run(command, cwd=folder, check=False, stdout=subprocess.DEVNULL)
            page = ("--window-size=1280,800", f"--screenshot={HERE / 'report.png'}", f"file://{folder / 'report.html'}")
            browser = ("chromium", "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars")
            subprocess.run([*browser, f"--user-data-dir={folder / 'browser'}", *page], check=True, capture_output=True)
            for name, arguments in SHOTS.items():
                _take(name, arguments, folder)
                print(f"took {name}")
    finally:
        screen.terminate()


if __name__ == "__main__":
    main()
