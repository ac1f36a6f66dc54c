"""The commands as another program calls them: exit codes, one line of complaint, JSON alone on standard output."""

import json
from pathlib import Path

import numpy as np
import pytest
from tests.conftest import TRUE_STATES
from tests.core.test_advice import case_of
from typer.testing import CliRunner

from dusky_sieve import files
from dusky_sieve.cli.main import app
from dusky_sieve.cli.schemas import schema_texts

LAYOUT = "src/dusky_sieve/data/layouts/four-staircases.layout.json"
run = CliRunner().invoke


def test_read_prints_the_reading_alone(tmp_path, faulty_photo):
    photo = tmp_path / "sheet.dat"  # told by content, not by name
    photo.write_bytes(faulty_photo)
    result = run(app, ["read", "--layout", LAYOUT, "--light", str(photo), "--json"])
    assert result.exit_code == 0
    document = json.loads(result.stdout)
    assert document["format"] == "dusky-sieve-reading"
    assert {b["id"]: {f["nozzle"]: f["state"] for f in b["faults"]} for b in document["blocks"]} == TRUE_STATES


@pytest.mark.parametrize(
    ("content", "told"),
    [
        pytest.param(b"", "the file is empty", id="zero bytes"),
        pytest.param(b"hello", "not a photo", id="not an image"),
        pytest.param(None, "cannot be read", id="no such file"),
        pytest.param("short", "damaged or cut short", id="truncated JPEG"),
        pytest.param("tiny", "too few to see single marks", id="too small"),
    ],
)
def test_a_photo_that_is_no_use_exits_2_with_one_line(tmp_path, faulty_photo, content, told):
    photo = tmp_path / "sheet.jpg"
    if content == "short":
        content = faulty_photo[: len(faulty_photo) // 2]
    elif content == "tiny":
        content = files.encode_jpeg(np.zeros((100, 200, 3), np.uint8), 90)
    if content is not None:
        photo.write_bytes(content)
    result = run(app, ["read", "--layout", LAYOUT, "--light", str(photo), "--json"])
    assert result.exit_code == 2
    assert result.stdout == ""
    assert told in result.stderr
    assert result.stderr.count("\n") == 1


def test_a_photo_without_the_sheet_exits_3_and_still_prints_the_reading(tmp_path, desk_photo):
    photo = tmp_path / "desk.jpg"
    photo.write_bytes(desk_photo)
    result = run(app, ["read", "--layout", LAYOUT, "--light", str(photo), "--json"])
    assert result.exit_code == 3
    assert json.loads(result.stdout)["photos"][0]["found"] is False
    assert "desk.jpg: no sheet of the layout" in result.stderr


def test_several_sheets_are_read_in_order_and_one_that_fails_stops_no_other(tmp_path, faulty_photo):
    (tmp_path / "a.jpg").write_bytes(faulty_photo)
    (tmp_path / "b.jpg").write_bytes(b"hello")
    (tmp_path / "c.jpg").write_bytes(faulty_photo)
    photos = [word for name in "abc" for word in ("--light", str(tmp_path / f"{name}.jpg"))]
    result = run(app, ["read", "--layout", LAYOUT, *photos, "--json", "--jobs", "1"])
    first, failed, last = (json.loads(line) for line in result.stdout.splitlines())
    assert result.exit_code == 2
    assert "b.jpg: not a photo" in failed["error"]
    assert first["photos"][0]["file"] == "a.jpg"
    assert first["blocks"] == last["blocks"]


def test_corners_by_hand_lead_to_the_same_reading_and_nonsense_is_refused(tmp_path, faulty_photo):
    photo = tmp_path / "sheet.jpg"
    photo.write_bytes(faulty_photo)
    corners = "340,97 1459,153 1355,1179 311,1090"  # as a person marks them: some pixels off
    result = run(app, ["read", "--layout", LAYOUT, "--light", str(photo), "--corners", corners, "--json"])
    assert result.exit_code == 0
    found = json.loads(result.stdout)
    assert {b["id"]: {f["nozzle"]: f["state"] for f in b["faults"]} for b in found["blocks"]} == TRUE_STATES
    crossed = "340,97 1355,1179 1459,153 311,1090"
    result = run(app, ["read", "--layout", LAYOUT, "--light", str(photo), "--corners", crossed])
    assert (result.exit_code, "not those of a sheet" in result.stderr) == (3, True)
    result = run(app, ["read", "--layout", LAYOUT, "--light", str(photo), "--corners", "1,2 3"])
    assert (result.exit_code, "expected four points" in result.stderr) == (2, True)


def test_a_layout_with_an_impossible_number_exits_2_naming_the_field(tmp_path, faulty_photo):
    layout, photo = tmp_path / "six.layout.json", tmp_path / "sheet.jpg"
    layout.write_text(Path(LAYOUT).read_text().replace('"columns": 12', '"columns": 0', 1))
    photo.write_bytes(faulty_photo)
    result = run(app, ["read", "--layout", str(layout), "--light", str(photo)])
    assert result.exit_code == 2
    assert "six.layout.json: blocks[0].columns" in result.stderr


def test_synth_renders_what_read_reads_and_the_same_seed_the_same_photo(tmp_path):
    truth = tmp_path / "t.json"
    scene = {"width": 2016, "height": 1512, "fill": 0.85, "tilt_deg": 8, "margin_mm": 8}
    truth.write_text(
        json.dumps(
            {"format": "dusky-sieve-truth", "version": 1, "blocks": {"cyan": {"missing": [5, 99]}}, "scene": scene}
        )
    )
    for folder in ("a", "b"):
        assert (
            run(
                app, ["synth", "--layout", LAYOUT, "--truth", str(truth), "--seed", "7", "-o", str(tmp_path / folder)]
            ).exit_code
            == 0
        )
    assert (tmp_path / "a/light.jpg").read_bytes() == (tmp_path / "b/light.jpg").read_bytes()
    result = run(app, ["read", "--layout", LAYOUT, "--light", str(tmp_path / "a/light.jpg"), "--json"])
    faults = {b["id"]: [f["nozzle"] for f in b["faults"]] for b in json.loads(result.stdout)["blocks"]}
    assert faults == {"black": [], "cyan": [5, 99], "magenta": [], "yellow": []}


def test_synth_refuses_a_nozzle_the_layout_does_not_have(tmp_path):
    truth = tmp_path / "t.json"
    truth.write_text(json.dumps({"blocks": {"cyan": {"missing": [500]}}}))
    result = run(app, ["synth", "--layout", LAYOUT, "--truth", str(truth), "-o", str(tmp_path)])
    assert result.exit_code == 2
    assert "nozzle 500 is not on the layout" in result.stderr


def test_advise_answers_with_the_document_and_takes_another_ladder(tmp_path):
    case = tmp_path / "case.json"
    case.write_text(case_of("same clean same").model_dump_json(exclude_none=True))
    own = json.loads(run(app, ["advise", str(case), "--json"]).stdout)
    other = json.loads(run(app, ["advise", str(case), "--ladder", "maker-tank", "--json"]).stdout)
    assert (own["next"]["step"], other["next"]["step"]) == ("rest", "clean")
    assert "hangs" not in own
    card = run(app, ["advise", str(case)])
    assert "Next: Rest" in card.stdout
    assert run(app, ["advise", str(case), "--ladder", "moon"]).exit_code == 2


def test_advise_streams_line_by_line_and_goes_on_after_a_bad_one():
    good = case_of("same").model_dump_json(exclude_none=True)
    result = run(app, ["advise", "-", "--json"], input=f"{good}\nnonsense\n{good}\n")
    first, bad, last = (json.loads(line) for line in result.stdout.splitlines())
    assert result.exit_code == 0
    assert "not a JSON document" in bad["error"]
    assert first == last
    assert first["next"]["step"] == "clean"


def test_teach_writes_a_layout_that_read_takes_and_says_what_is_in_doubt(tmp_path, faulty_photo):
    photo, spec, out = tmp_path / "good.jpg", tmp_path / "known.spec.json", tmp_path / "own.layout.json"
    photo.write_bytes(faulty_photo)
    blocks = [{k: b.model_dump()[k] for k in ("id", "channel", "ink", "nozzles", "nozzle_pitch")} for b in files.shipped_layout("four-staircases").blocks]  # fmt: skip
    spec.write_text(json.dumps({"format": "dusky-sieve-spec", "version": 1, "name": "Own sheet", "blocks": blocks}))
    result = run(app, ["teach", "--spec", str(spec), "--light", str(photo), "-o", str(out)])
    assert (result.exit_code, result.stdout.strip()) == (0, str(out))
    read = run(app, ["read", "--layout", str(out), "--light", str(photo), "--json"])
    assert {b["id"]: {f["nozzle"]: f["state"] for f in b["faults"]} for b in json.loads(read.stdout)["blocks"]} == TRUE_STATES  # fmt: skip


@pytest.mark.parametrize(
    ("change", "code", "says"),
    [
        pytest.param({"photo": None}, 2, "No photo was given", id="no photo"),
        pytest.param({"spec": "{"}, 2, "known.spec.json", id="a spec that is no document"),
        pytest.param({"photo": "desk"}, 3, "desk.jpg", id="a photo without the sheet"),
        pytest.param({"out": "desk.jpg/own.layout.json", "photo": "good"}, 2, "cannot be written", id="a folder that is a file"),
    ],
)  # fmt: skip
def test_teach_that_cannot_be_done_says_why_in_one_line_and_writes_nothing(tmp_path, faulty_photo, desk_photo, change, code, says):  # fmt: skip
    spec, out = tmp_path / "known.spec.json", tmp_path / change.get("out", "own.layout.json")
    block = {"id": "black", "channel": "black", "ink": "#1d1c20", "nozzles": 180, "nozzle_pitch": 0.1411}
    others = [block | {"id": n, "channel": n} for n in ("cyan", "magenta", "yellow")]
    spec.write_text(change.get("spec", json.dumps({"format": "dusky-sieve-spec", "version": 1, "name": "Own", "blocks": [block, *others]})))  # fmt: skip
    (tmp_path / "desk.jpg").write_bytes(desk_photo)
    (tmp_path / "good.jpg").write_bytes(faulty_photo)
    photo = change.get("photo", "desk")
    given = [] if photo is None else ["--light", str(tmp_path / f"{photo}.jpg")]
    result = run(app, ["teach", "--spec", str(spec), *given, "-o", str(out)])
    assert (result.exit_code, result.stdout, says in result.stderr) == (code, "", True)
    assert result.stderr.count("\n") == 1
    assert not out.exists()


def test_read_without_json_is_a_table_for_a_person_with_its_warnings(tmp_path, faulty_photo):
    photo = tmp_path / "sheet.jpg"
    photo.write_bytes(faulty_photo)
    result = run(app, ["read", "--layout", LAYOUT, "--light", str(photo)], env={"COLUMNS": "120"})
    rows = {line.split("│")[1].strip(): [cell.strip() for cell in line.split("│")[2:-1]] for line in result.stdout.splitlines() if line.startswith("│")}  # fmt: skip
    assert rows["black"] == ["1, 12, 13, 180", "none", "90", "none"]
    assert rows["cyan"] == ["none", "77, 140", "none", "none"]
    assert rows["magenta"] == ["none"] * 4


@pytest.mark.parametrize(
    ("words", "says"),
    [
        pytest.param([], "No photo was given", id="none"),
        pytest.param(["--light", "a.jpg", "--light", "b.jpg", "--dark", "c.jpg"], "make no pairs", id="two over light, one over dark"),
        pytest.param(["--light", "a.jpg", "--light", "b.jpg", "--corners", "1,1 2,1 2,2 1,2"], "belongs to one photo", id="corners for two"),
        pytest.param(["--light", "a.jpg", "--corners", "1,1 2,1 2,nan 1,2"], "expected four points", id="a corner that is no place"),
    ],
)  # fmt: skip
def test_photos_that_make_no_sheet_are_refused_before_any_is_opened(words, says):
    result = run(app, ["read", "--layout", LAYOUT, *words])
    assert (result.exit_code, says in result.stderr, result.stdout) == (2, True, "")


@pytest.mark.parametrize("rate", ["often", 1.5, -0.1, [0.1]])
def test_synth_draws_faults_only_at_a_rate_that_is_a_share(tmp_path, rate):
    truth = tmp_path / "t.json"
    truth.write_text(json.dumps({"random": rate}))
    result = run(app, ["synth", "--layout", LAYOUT, "--truth", str(truth), "-o", str(tmp_path / "out")])
    assert result.exit_code == 2
    assert "random: expected a share from 0 to 1" in result.stderr
    assert not (tmp_path / "out").exists()


def test_the_published_schemas_describe_every_field_of_the_documents():
    """Each schema is closed, so a field that is not described would be refused by another program that checks."""
    advice = json.loads(run(app, ["advise", "-", "--json"], input=case_of("same").model_dump_json(exclude_none=True) + "\n").stdout)  # fmt: skip
    described = json.loads(schema_texts()["advice.schema.json"])["properties"]
    assert set(advice) <= set(described)
    layout = json.loads(Path(LAYOUT).read_text())
    assert set(layout) <= set(json.loads(schema_texts()["layout.schema.json"])["properties"])
