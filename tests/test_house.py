"""The house stays as its papers say: schemas, documents, no address of a registry, nothing fetched."""

import re
import subprocess
from pathlib import Path

import pytest

from dusky_sieve import files
from dusky_sieve.cli.schemas import schema_texts
from dusky_sieve.core.reading.document import WARNINGS
from dusky_sieve.settings import Settings

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize("name", sorted(schema_texts()))
def test_published_schemas_are_those_of_the_models(name):
    # Write them anew with: .venv/bin/dusky-sieve schemas
    assert (ROOT / "docs/schemas" / name).read_text() == schema_texts()[name]


def test_every_command_setting_warning_and_ladder_is_in_the_papers():
    papers = "".join(p.read_text() for p in [ROOT / "README.md", *ROOT.glob("docs/*.md"), ROOT / "CONTRIBUTING.md"])
    for word in ("read", "teach", "synth", "advise", "serve", "demo", "schemas"):
        assert f"dusky-sieve {word}" in papers
    for name in [*Settings.model_fields, *WARNINGS, *files.ladders()]:
        assert f"`{name}`" in papers, name


def test_every_picture_in_the_readme_is_there_and_there_are_few():
    shown = re.findall(r"docs/screenshots/[\w-]+\.png", (ROOT / "README.md").read_text())
    assert shown
    assert all((ROOT / path).is_file() for path in shown)
    assert len(list((ROOT / "docs/screenshots").glob("*.png"))) < 20


def test_no_file_names_a_registry_or_fetches_from_the_network():
    listed = subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=True).stdout.split()
    own = [
        p
        for p in listed
        if p.endswith((".html", ".css", ".js", ".txt", ".toml", ".in", ".json"))
        and "LICENSE" not in p
        and "alpine" not in p
    ]
    found = [
        p
        for p in own
        if re.search(r"https?://(?!www\.w3\.org|json-schema\.org|127\.0\.0\.1|localhost)", (ROOT / p).read_text())
    ]
    assert found == []
