"""How smoothly the light table moves, how soon a reading shows, and what pages weigh; in headless Chromium.

    .venv/bin/python -m benchmarks.table

A 12-megapixel photo of a sheet with 3,200 marks and one fault in twenty lies on the table, the whole lattice drawn. It is
moved about by hand at three sizes while the time between two pictures is taken; the wait from the end of the upload to
the reading is taken too, and the bytes over the wire of each page without its photo.
"""

import argparse
import itertools
import socket
import statistics
import tempfile
import threading
import time
from pathlib import Path

import numpy as np
import uvicorn
from playwright.sync_api import Page, sync_playwright

from dusky_sieve import files
from dusky_sieve.core.case import Channel, Printer
from dusky_sieve.core.layout import Layout, MarksBlock
from dusky_sieve.core.simulate import BlockTruth, Scene, Truth, render
from dusky_sieve.settings import Settings
from dusky_sieve.store import Store
from dusky_sieve.web.app import create_app

LAYOUT = "two-heads-raster"
PAGES = ("/", "/printers/bracken", "/printers/bracken/sheet-in", "/sheets/1", "/cases", "/ladders", "/printers/new")
WATCH = "() => { window.beats = []; const beat = (t) => { window.beats.push(t); if (window.watching) requestAnimationFrame(beat); }; window.watching = true; requestAnimationFrame(beat); }"


def large_layout() -> Layout:
    """The two-head sheet with two more blocks below: 3,200 marks."""
    one = files.shipped_layout(LAYOUT)
    below = [
        b.model_copy(
            update={
                "id": f"{b.id}-more", "origin": (b.origin[0], b.origin[1] + one.size[1] + 2.0),
                "first_nozzle": b.first_nozzle + b.nozzles,
            }
        )
        for b in one.blocks[:2]
        if isinstance(b, MarksBlock)
    ]  # fmt: skip
    blocks = (*(b for b in one.blocks if isinstance(b, MarksBlock)), *below)
    size = (one.size[0], 1.5 * one.size[1] + 2.0)
    return Layout.model_validate(one.model_copy(update={"blocks": blocks, "size": size}).model_dump())


def serve(folder: Path) -> str:
    """A room with one printer at a free port; its address."""
    layout = large_layout()
    nozzles = {b.channel: b.numbers[-1] for b in layout.blocks if hasattr(b, "numbers")}
    channels = tuple(Channel(name=n, nozzles=k) for n, k in nozzles.items())
    store = Store(folder)
    store.add_printer(
        "bracken", Printer(name="Bracken", channels=channels), layout, {b.channel: b.ink for b in layout.blocks}
    )
    store.close()
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    server = uvicorn.Server(uvicorn.Config(create_app(Settings(data=folder, port=port)), port=port, log_level="error"))
    threading.Thread(target=server.run, daemon=True).start()
    while not server.started:
        time.sleep(0.05)
    return f"http://127.0.0.1:{port}"


def photo(path: Path, seed: int) -> None:
    """A 12-megapixel photo with one nozzle in twenty missing."""
    layout, rng = large_layout(), np.random.default_rng(seed)
    faults = {
        b.id: BlockTruth(missing=tuple(int(n) for n in rng.choice(b.numbers, len(b.numbers) // 20, replace=False)))
        for b in layout.blocks
        if hasattr(b, "numbers")
    }
    scene = Scene(width=4000, height=3000, fill=0.92, lens_blur_px=0.8, tilt_deg=5, roll_deg=3)
    path.write_bytes(files.encode_jpeg(render(layout, Truth(blocks=faults, scene=scene), "light", rng), 90))


def dragged(page: Page) -> list[float]:
    """Milliseconds between pictures while the sheet is moved about by hand for about three seconds."""
    box = page.locator(".stage").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + min(box["height"], 400) / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.evaluate(WATCH)
    for k in range(180):
        page.mouse.move(x + 180 * np.sin(k / 14), y + 90 * np.cos(k / 11))
    page.mouse.up()
    beats = page.evaluate("() => { window.watching = false; return window.beats; }")
    return [b - a for a, b in itertools.pairwise(beats[1:])]


def main() -> None:
    argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter).parse_args()
    with tempfile.TemporaryDirectory() as name, sync_playwright() as playwright:
        folder = Path(name)
        address = serve(folder / "data")
        photo(folder / "sheet.jpg", 1)
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/printers/bracken/sheet-in")
        page.locator("input[type=file]").set_input_files(folder / "sheet.jpg")
        sent: list[float] = []
        page.expose_function("uploaded", lambda: sent.append(time.perf_counter()))
        page.evaluate("() => { const send = XMLHttpRequest.prototype.send; XMLHttpRequest.prototype.send = function (body) { this.upload.addEventListener('load', () => window.uploaded()); return send.call(this, body); }; }")  # fmt: skip
        page.get_by_role("button", name="Read this photo").click()
        page.wait_for_url("**/sheets/1")
        page.locator("h1").wait_for()
        print(
            f"reading on the page {time.perf_counter() - sent[0]:.2f} s after the upload's end: {page.inner_text('h1')}"
        )
        page.goto(f"{address}/sheets/1?lattice=1")
        for size in (1.6, 3.2, 8.0):
            page.locator(".stage").focus()
            while float(page.locator(".layer").get_attribute("data-zoom") or 1) < size:
                page.keyboard.press("+")
                page.wait_for_timeout(60)
            page.wait_for_timeout(1500)
            gaps = dragged(page)
            late = sum(g > 1000 / 60 * 1.5 for g in gaps) / len(gaps)
            print(
                f"{size:.1f} times: {1000 / statistics.mean(gaps):.1f} pictures a second, {late:.1%} late, longest gap {max(gaps):.0f} ms"
            )
        for path in PAGES:
            fresh = browser.new_context().new_page()
            bytes_in = {"page": 0, "photos": 0}

            def count(response, into=bytes_in):  # type: ignore[no-untyped-def]
                size = response.request.sizes()["responseBodySize"]
                into["photos" if ".jpg" in response.url or "/photo" in response.url else "page"] += size

            fresh.on("response", count)
            fresh.goto(address + path, wait_until="load")
            fresh.wait_for_timeout(400)
            print(f"{path}: {bytes_in['page'] / 1000:.0f} kB without photos, first visit")
        browser.close()


if __name__ == "__main__":
    main()
