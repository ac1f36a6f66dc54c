"""JSON Schemas of the published documents, generated from the models."""

import json
from pathlib import Path

from pydantic import BaseModel

from dusky_sieve.core.advice import Advice, Ladder
from dusky_sieve.core.case import Case
from dusky_sieve.core.layout import Layout
from dusky_sieve.core.reading import Reading
from dusky_sieve.core.simulate import Truth
from dusky_sieve.core.teaching import Spec

DOCUMENTS: dict[str, type[BaseModel]] = {
    "layout": Layout,
    "reading": Reading,
    "case": Case,
    "advice": Advice,
    "ladder": Ladder,
    "truth": Truth,
    "spec": Spec,
}


def schema_texts() -> dict[str, str]:
    """File name to schema text, for every published document."""
    return {
        f"{name}.schema.json": json.dumps(model.model_json_schema(), indent=1, sort_keys=True) + "\n"
        for name, model in DOCUMENTS.items()
    }


def write_schemas(folder: Path) -> list[Path]:
    """Writes all schemas into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    written = []
    for name, text in schema_texts().items():
        (folder / name).write_text(text, encoding="utf-8")
        written.append(folder / name)
    return written
