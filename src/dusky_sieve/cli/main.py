"""Commands. Each parses, calls one function, prints. Exit codes: 0 done, 2 unusable input, 3 sheet not found.

What only one command needs is imported by it: half of a quick command's time would go into that.
"""

import json
import math
import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NoReturn

import numpy as np
import typer
from rich.console import Console
from rich.progress import Progress
from rich.table import Table

from dusky_sieve import files
from dusky_sieve.core.errors import DuskySieveError, SheetNotFound, UnusableInput
from dusky_sieve.core.layout import Backing, MarksBlock

if TYPE_CHECKING:
    from dusky_sieve.batch import SheetPhotos
    from dusky_sieve.core.advice import Advice
    from dusky_sieve.core.reading import Reading
    from dusky_sieve.settings import Settings

app = typer.Typer(
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    help="Reads nozzle check sheets and says what to do next.",
)
JsonFlag = Annotated[bool, typer.Option("--json", help="Print the document and nothing else.")]


def _stop(error: DuskySieveError) -> NoReturn:
    print(error, file=sys.stderr)
    raise typer.Exit(3 if isinstance(error, SheetNotFound) else 2)


@app.command()
def read(
    layout: Annotated[Path, typer.Option(help="The sheet's layout, *.layout.json.")],
    light: Annotated[list[Path] | None, typer.Option(help="Photo over a light backing; again for the next sheet.")] = None,
    dark: Annotated[list[Path] | None, typer.Option(help="Photo over a dark backing; the n-th belongs to the n-th light one.")] = None,
    corners: Annotated[str | None, typer.Option(help="The pattern's corners on one photo, as x,y x,y x,y x,y in pixels: the sheet's own top left first, then clockwise.")] = None,
    jobs: Annotated[int | None, typer.Option(min=1, help="Processes for several sheets; where left out one per core, with four sheets each at least.")] = None,
    as_json: JsonFlag = False,
) -> None:  # fmt: skip
    """Read sheets: faulty nozzles by number, from one photo per backing. Several sheets give one JSON document a line."""
    from dusky_sieve.batch import read_many

    try:
        plan = files.load_layout(layout)
        sheets = _sheets(light or [], dark or [], corners)
        results = []
        with Progress(console=Console(stderr=True), transient=True, disable=len(sheets) == 1) as bar:
            task = bar.add_task("Reading", total=len(sheets))
            for result in read_many(plan, sheets, jobs=jobs, progress=lambda done, _: bar.update(task, completed=done)):
                if len(sheets) == 1 and result.error:
                    raise result.error
                results.append(result)
    except DuskySieveError as error:
        _stop(error)
    worst = 0
    for result in results:
        if result.reading is None:
            print(result.error, file=sys.stderr)
            worst = max(worst, 2)
            if as_json:
                print(json.dumps({"error": str(result.error)}, ensure_ascii=False))
            continue
        if as_json:
            print(result.reading.model_dump_json(exclude_none=True, indent=2 if len(sheets) == 1 else None))
        else:
            _print_reading(result.reading)
        for photo in result.reading.photos:
            if not photo.found:
                print(photo.why or "The sheet was not found.", file=sys.stderr)
                worst = max(worst, 3)
    if worst:
        raise typer.Exit(2 if any(r.reading is None for r in results) else 3)


def _sheets(light: list[Path], dark: list[Path], corners: str | None) -> "list[SheetPhotos]":
    """Photos paired into sheets: the n-th over light with the n-th over dark."""
    from dusky_sieve.batch import SheetPhotos

    count = max(len(light), len(dark))
    if count == 0:
        raise UnusableInput("No photo was given: add --light PHOTO or --dark PHOTO.")
    if light and dark and len(light) != len(dark):
        raise UnusableInput(
            f"{len(light)} photos over light and {len(dark)} over dark make no pairs: give one of each for every sheet."
        )
    marked = None
    if corners is not None:
        if len(light) + len(dark) != 1:
            raise UnusableInput("--corners belongs to one photo: give one --light or one --dark with it.")
        try:
            points = tuple(tuple(float(v) for v in part.split(",")) for part in corners.split())
        except ValueError:
            points = ()
        if len(points) != 4 or any(len(p) != 2 or not all(math.isfinite(v) for v in p) for p in points):
            raise UnusableInput(f"--corners: expected four points as x,y x,y x,y x,y in pixels, found {corners!r}.")
        marked = points
    return [SheetPhotos(light[i] if light else None, dark[i] if dark else None, marked) for i in range(count)]


@app.command("teach")
def teach_command(
    spec: Annotated[
        Path, typer.Option(help="What is known of the sheet: channels and nozzle counts in reading order.")
    ],
    out: Annotated[Path, typer.Option("-o", help="Where to write the layout, *.layout.json.")],
    light: Annotated[Path | None, typer.Option(help="Photo of a good sheet over a light backing.")] = None,
    dark: Annotated[Path | None, typer.Option(help="Photo of the same sheet over a dark backing.")] = None,
) -> None:
    """Learn the layout of an unseen sheet from a photograph of a good one."""
    from dusky_sieve.core.reading import UprightPhoto
    from dusky_sieve.core.teaching import parse_spec, teach

    try:
        known = parse_spec(files.read_bytes(spec), spec.name)
        given: list[tuple[Path | None, Backing]] = [(light, "light"), (dark, "dark")]
        photos = [
            UprightPhoto(files.decode_photo(files.read_bytes(path), path.name), backing, path.name)
            for path, backing in given
            if path is not None
        ]
        if not photos:
            raise UnusableInput("No photo was given: add --light PHOTO or --dark PHOTO.")
        taught = teach(known, photos)
        files.write_synced(out, taught.layout.model_dump_json(indent=1, exclude_none=True).encode())
    except DuskySieveError as error:
        _stop(error)
    except OSError as error:
        _stop(UnusableInput(f"{out}: cannot be written ({error.strerror or error})."))
    print(out)
    for note in taught.notes:
        print(note, file=sys.stderr)


def _print_reading(reading: "Reading") -> None:
    table = Table("block", "missing", "weak", "deflected", "unsure", title=reading.layout)
    for block in reading.blocks:
        if not block.read:
            table.add_row(block.id, block.why or "not read", "", "", "")
            continue
        if block.kind == "solid":
            shown = ", ".join(
                f"{line.y_mm:g} mm" + (f" (nozzle {line.nozzle})" if line.nozzle else "") for line in block.lines or ()
            )
            table.add_row(block.id, f"light lines: {shown or 'none'}", "", "", "")
            continue
        cells = [
            ", ".join(str(f.nozzle) for f in block.faults if f.state == state) or "none"
            for state in ("missing", "weak", "deflected", "unsure")
        ]
        table.add_row(block.id, *cells)
    console = Console()
    console.print(table)
    for photo in reading.photos:
        for warning in photo.warnings:
            console.print(f"{photo.file}: {warning.message}")


@app.command()
def synth(
    layout: Annotated[Path, typer.Option(help="The sheet's layout, *.layout.json.")],
    truth: Annotated[Path, typer.Option(help="Faults by block id and the scene, *.truth.json.")],
    out: Annotated[Path, typer.Option("-o", help="Folder for the photographs.")],
    seed: Annotated[int, typer.Option(help="The same seed renders the same photograph.")] = 0,
) -> None:
    """Render photographs of a sheet with known faults through the simulated printer and camera.

    A truth document with "random": RATE in place of blocks draws faults at that rate from the seed.
    """
    from dusky_sieve.core.simulate import BlockTruth, parse_truth, px_per_mm, random_faults, render, sheet_to_photo

    try:
        plan = files.load_layout(layout)
        text = files.read_bytes(truth)
        known = parse_truth(text, plan, truth.name)
        rate = json.loads(text).get("random")
        rng = np.random.default_rng(seed)
        if rate is not None:
            if not isinstance(rate, int | float) or not 0 <= rate <= 1:
                raise UnusableInput(f"{truth.name}: random: expected a share from 0 to 1, found {rate!r}.")
            blocks: dict[str, BlockTruth] = {
                b.id: random_faults(b, rng, rate=rate) for b in plan.blocks if isinstance(b, MarksBlock)
            }
            known = known.model_copy(update={"blocks": blocks | known.blocks})
        out.mkdir(parents=True, exist_ok=True)
        backings: list[Backing] = sorted({b.backing for b in plan.blocks}, reverse=True)
        for backing in backings:
            pixels = render(plan, known, backing, rng)
            path = out / f"{backing}.jpg"
            files.write_synced(path, files.encode_jpeg(pixels, known.scene.jpeg_quality))
            print(path)
    except DuskySieveError as error:
        _stop(error)
    except OSError as error:
        _stop(UnusableInput(f"{out}: cannot be written ({error.strerror or error})."))
    homography = sheet_to_photo(plan, known.scene)
    report = known.model_dump(mode="json") | {
        "layout": plan.name, "sheet_to_photo": homography.tolist(), "px_per_mm": round(px_per_mm(homography, plan), 3), "seed": seed,
    }  # fmt: skip
    files.write_synced(out / "truth.json", json.dumps(report, indent=1).encode())
    print(out / "truth.json")


@app.command("advise")
def advise_command(
    case: Annotated[str, typer.Argument(help="A case document, or - for one case per line on standard input.")],
    ladder: Annotated[
        str | None,
        typer.Option(help="Follow this ladder instead of the printer's own: its name, or a *.ladder.json file."),
    ] = None,
    as_json: JsonFlag = False,
) -> None:
    """Say what a case means and what to do next."""
    if case == "-":
        for line in sys.stdin:
            if line.strip():
                try:
                    print(_advise(line, "line", ladder).model_dump_json(exclude_none=False), flush=True)
                except DuskySieveError as error:
                    print(json.dumps({"error": str(error)}, ensure_ascii=False), flush=True)
        return
    try:
        advice = _advise(files.read_bytes(Path(case)), Path(case).name, ladder)
    except DuskySieveError as error:
        _stop(error)
    if as_json:
        print(advice.model_dump_json(indent=2))
        return
    step = advice.next
    console = Console()
    console.print(
        f"[bold]Next: {files.step_table()[step.step].title}[/bold]"
        + (f" ({', '.join(step.channels)})" if step.channels else "")
    )
    for why in step.why:
        console.print(why)
    console.print(
        f"Ink est. {sum(step.ink_ml.values()):.1f} ml ({step.ink_low_ml:.1f} to {step.ink_high_ml:.1f}), pad {step.waste_ml:.1f} ml, {step.minutes:.0f} min, cost {step.cost:.2f}"
    )
    for caution in step.cautions:
        console.print(f"[red]Caution:[/red] {caution}")
    for refused in advice.refused:
        console.print(f"Refused: {files.step_table()[refused.step].title}. {refused.why}")
    console.print("Likely: " + ", ".join(f"{c.cause.replace('_', ' ')} {c.probability:.0%}" for c in advice.causes[:3]))


def _advise(text: str | bytes, name: str, ladder_id: str | None) -> "Advice":
    from dusky_sieve.core.advice import advise
    from dusky_sieve.core.case import parse_case

    document = parse_case(text, name)
    wanted = ladder_id or document.printer.ladder
    chosen = files.load_ladder(Path(wanted)) if wanted.endswith(".ladder.json") else files.ladder(wanted)
    return advise(
        document, chosen, files.step_table(), files.cause_table(), files.cure_table(), files.ladders().values()
    )


@app.command()
def serve(
    data: Annotated[Path | None, typer.Option(help="Data folder; the platform's usual place where left out.")] = None,
    host: Annotated[str | None, typer.Option(help="Address to listen on; loopback where left out.")] = None,
    port: Annotated[int | None, typer.Option(help="Port to listen on.")] = None,
    phones: Annotated[bool | None, typer.Option(help="Let phones on this network send photos by a code.")] = None,
) -> None:
    """Serve the application."""
    from dusky_sieve.settings import Settings

    given = {"data": data, "host": host, "port": port, "phones": phones}
    _serve(Settings(**{name: value for name, value in given.items() if value is not None}))  # type: ignore[arg-type]


@app.command()
def demo(
    data: Annotated[Path, typer.Option(help="Data folder; filled when it is new or empty.")] = Path("demo-data"),
    host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port to listen on.")] = 8137,
    phones: Annotated[bool, typer.Option(help="Let phones on this network send photos by a code.")] = False,
    fill_only: Annotated[bool, typer.Option(help="Fill the folder and stop.")] = False,
) -> None:
    """Serve the demo room: four invented printers with weeks of history."""
    from dusky_sieve import demo as room
    from dusky_sieve.settings import Settings

    if not data.exists() or not any(data.iterdir()):
        room.fill(data, datetime.now(UTC).replace(microsecond=0), print)
        print(f"Photographs to try lie in {data / 'photos-to-try'}")
    if not fill_only:
        _serve(Settings(data=data, host=host, port=port, phones=phones, room=room.ROOM, person=room.PERSON))


def _serve(settings: "Settings") -> None:
    import uvicorn

    from dusky_sieve.web.app import create_app

    print(
        f"Dusky Sieve is at http://{settings.host}:{settings.port}/   (data in {settings.data}; stop with Ctrl-C)",
        flush=True,
    )
    listen = "0.0.0.0" if settings.phones and settings.host == "127.0.0.1" else settings.host
    uvicorn.run(
        create_app(settings), host=listen, port=settings.port, log_level="warning", server_header=False, timeout_graceful_shutdown=2
    )  # fmt: skip


@app.command()
def schemas(
    out: Annotated[Path, typer.Option("-o", help="Folder for the JSON Schema files.")] = Path("docs/schemas"),
) -> None:
    """Write the JSON Schemas of the four documents and of the ladder."""
    from dusky_sieve.cli.schemas import write_schemas

    for path in write_schemas(out):
        print(path)


if __name__ == "__main__":
    app()
