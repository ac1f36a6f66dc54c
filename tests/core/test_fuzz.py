"""Nothing that comes in from outside raises anything but a clear refusal."""

import json

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.conftest import photo_of, small_scene
from tests.core.stories import case_of

from dusky_sieve import files
from dusky_sieve.core.advice import parse_ladder
from dusky_sieve.core.case import parse_case
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.layout import parse_layout
from dusky_sieve.core.reading import Reading, parse_reading
from dusky_sieve.core.simulate import parse_truth
from dusky_sieve.core.teaching import parse_spec

ODD = st.one_of(
    st.none(), st.booleans(), st.integers(-(10**20), 10**20), st.floats(), st.text(max_size=12), st.just([]), st.just({}), st.lists(st.integers(-9, 9), max_size=3)
)  # fmt: skip
LAYOUT = files.shipped_layout("four-staircases").model_dump(mode="json")
GOOD = {
    "layout": (parse_layout, LAYOUT),
    "case": (parse_case, json.loads(case_of("same clean same rest +12 fewer").model_dump_json())),
    "reading": (parse_reading, json.loads(Reading(layout="x", photos=(), blocks=()).model_dump_json())),
    "ladder": (parse_ladder, json.loads(files.ladder("maker-tank").model_dump_json(by_alias=True, exclude_none=True))),
    "spec": (parse_spec, {"name": "x", "blocks": [{"id": "a", "channel": "a", "ink": "#112233", "nozzles": 40, "nozzle_pitch": 0.1}]}),
    "truth": (lambda text: parse_truth(text, files.shipped_layout("four-staircases"), "truth"), {"blocks": {"black": {"missing": [3]}}, "scene": {}}),
}  # fmt: skip
HURRIED = settings(max_examples=300, deadline=None, suppress_health_check=[HealthCheck.too_slow])


def answer_of(read, *given):
    """What a reader says: accepted, or the refusal; anything else that it raises fails the test."""
    try:
        read(*given)
    except UnusableInput as refusal:
        return str(refusal)
    return "accepted"


def spots(document, path=()):
    """Every place of a document, outermost first."""
    yield path
    items = (
        document.items()
        if isinstance(document, dict)
        else enumerate(document[:4])
        if isinstance(document, list)
        else ()
    )
    for key, value in items:
        yield from spots(value, (*path, key))


def changed(document, path, value):
    """The document with another value at one place."""
    if not path:
        return value
    copy = dict(document) if isinstance(document, dict) else list(document)
    copy[path[0]] = changed(copy[path[0]], path[1:], value)
    return copy


@HURRIED
@given(st.data(), st.sampled_from(sorted(GOOD)), ODD)
def test_a_document_with_anything_anywhere_is_read_or_refused_in_one_sentence(data, kind, value):
    parse, good = GOOD[kind]
    path = data.draw(st.sampled_from(list(spots(good))))
    answer = answer_of(parse, json.dumps(changed(good, path, value)))
    assert answer
    assert "\n" not in answer


@HURRIED
@given(st.sampled_from(sorted(GOOD)), st.one_of(st.binary(max_size=60), st.text(max_size=60)))
def test_text_that_is_no_document_is_refused(kind, text):
    with pytest.raises(UnusableInput):
        GOOD[kind][0](text)


@pytest.mark.parametrize("kind", sorted(GOOD))
def test_a_document_nested_without_end_is_refused(kind):
    with pytest.raises(UnusableInput):
        GOOD[kind][0]("[" * 90_000)


PHOTO = photo_of("four-staircases", (), small_scene(width=900, height=700))


@settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.data())
def test_a_photo_with_bytes_changed_or_cut_off_is_decoded_or_refused(data):
    content = bytearray(PHOTO[: data.draw(st.integers(0, len(PHOTO)))])
    for _ in range(data.draw(st.integers(0, 6))):
        if content:
            content[data.draw(st.integers(0, min(len(content) - 1, 900)))] = data.draw(st.integers(0, 255))
    assert answer_of(files.decode_photo, bytes(content), "p.jpg").startswith(("accepted", "p.jpg: "))


@given(st.binary(max_size=200), st.sampled_from([b"", b"\xff\xd8\xff", b"\x89PNG\r\n\x1a\n", b"II*\0", b"MM\0*", b"RIFF\0\0\0\0WEBP", b"\0\0\0\x18ftypheic"]))  # fmt: skip
@settings(max_examples=200, deadline=None)
def test_bytes_that_claim_to_be_a_photo_are_refused(tail, head):
    with pytest.raises(UnusableInput):
        files.decode_photo(head + tail, "p.jpg")
