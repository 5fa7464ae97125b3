"""What one waits for on the page, in a browser with a software driver; one line of JSON at the end.

The demo at 640 x 400. `first_picture_s`: from opening the address to a picture, textures of all sizes still to come;
`whole_picture_s`: until all is there and drawn whole; `frame_ms`: drawing it whole once more; `knob_to_picture_ms`: from a
number that is typed to the first picture that shows it; `threshold_to_picture_ms`: the same of a number that weights go by;
`stroke_to_picture_ms`: the same of a dab of the brush, written into its file. `kib_of_page`: what the page itself weighs.
Needs a chromium, and `pip install "jagged-quilt[page]" playwright`.
"""

from __future__ import annotations

import argparse
import json
import shutil
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Page as Tab
from playwright.sync_api import sync_playwright

import jagged_quilt as jq
from jagged_quilt.demo.project import write_project
from jagged_quilt.live.static_files import FILES, page_file

FLAGS = ["--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]
LONGEST = 120_000  # milliseconds


def milliseconds(tab: Tab, act, shown) -> float:
    """From an act to when something is shown."""
    start = time.perf_counter()
    act()
    shown()
    return 1000 * (time.perf_counter() - start)


def frames(tab: Tab) -> int:
    return int(tab.evaluate("document.body.dataset.frames ?? 0"))


def told(tab: Tab, act) -> float:
    """From an act to the first picture after the server's answer."""
    before, shown = tab.evaluate("document.body.dataset.ready"), "before => document.body.dataset.ready !== before"
    return milliseconds(tab, act, lambda: tab.wait_for_function(shown, arg=before))


def turned(tab: Tab, words: str, value: str) -> float:
    """From a number that is typed to the first picture that shows it."""
    tab.fill("#find", words)
    number = tab.locator("#groups .knob:visible input[type=number]").first
    number.fill(value)
    return told(tab, lambda: number.press("Enter"))


def painted(tab: Tab) -> float:
    """From a dab in the middle of the picture to the first one that shows it."""
    tab.evaluate("document.getElementById('painting').open = true")
    tab.focus("#picture")
    return told(tab, lambda: tab.keyboard.press("Enter"))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--quick", action="store_true", help="maps of 128 texels")
    texels = 128 if parser.parse_args().quick else 512
    path = shutil.which("chromium") or shutil.which("chromium-browser")
    if path is None:
        parser.exit(2, "there is no chromium\n")
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        quilt_file = write_project(Path(folder) / "saltworks", texels=texels)
        quilt_file.write_text(quilt_file.read_text().replace("side = 512", f"side = {texels}"))
        server = jq.Page(quilt_file).begin()
        browser = playwright.chromium.launch(executable_path=path, args=FLAGS)
        tab = browser.new_page(viewport={"width": 640, "height": 400})
        tab.set_default_timeout(LONGEST)
        whole = lambda before: tab.wait_for_function(
            "n => document.body.dataset.whole === 'true' && Number(document.body.dataset.frames) > n", arg=before
        )
        start = time.perf_counter()
        tab.goto(server.address)
        tab.wait_for_function("() => Number(document.body?.dataset.frames ?? 0) > 0")
        first = time.perf_counter() - start
        tab.wait_for_selector("body[data-ready]")
        whole(0)
        all_of_it = time.perf_counter() - start
        before = frames(tab)
        frame = milliseconds(tab, lambda: tab.evaluate("window.dispatchEvent(new Event('resize'))"), lambda: whole(before))
        tab.evaluate("document.getElementById('numbers').open = true")
        figures = {
            "first_picture_s": round(first, 1),
            "whole_picture_s": round(all_of_it, 1),
            "frame_ms": round(frame),
            "knob_to_picture_ms": round(turned(tab, "salt crust softness", "0.4")),
            "threshold_to_picture_ms": round(turned(tab, "salt crust mask 1 noise threshold", "0.5")),
            "stroke_to_picture_ms": round(painted(tab)),
            "kib_of_page": round(sum(len(page_file(name)) for name in FILES) / 1024),
        }
        browser.close()
        server.stop()
    print(json.dumps(figures))


if __name__ == "__main__":
    main()
