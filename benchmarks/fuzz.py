"""Coverage-guided fuzzing of everything that comes in from outside: documents and photographs.

    bin/fuzz layout --seconds 120      # layout, case, reading, ladder, spec, truth, photo; all one after the other without a name

Anything raised but a clear refusal is a finding: it is kept under benchmarks/out and ends the run. The property tests
in tests/core/test_fuzz.py ask the same of random documents; this one follows the branches of our own code (atheris).
"""

import argparse
import json
import multiprocessing
import random
import sys
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["dusky_sieve"]):
    from tests.core.test_fuzz import GOOD, PHOTO, changed, spots

    from dusky_sieve import files
    from dusky_sieve.core.errors import UnusableInput

DOORS = (*GOOD, "photo")
OUT = Path(__file__).parent / "out" / "fuzz"
ODD = (None, True, 0, -1, 1, 2, 0.5, -0.0, 1e308, 10**20, "", "x", "#112233", "a\nb", "nan", [], {}, [1, 2], [None])


def one(kind: str, content: bytes) -> None:
    """Hands one input to its door; only a refusal in one sentence may come back."""
    try:
        if kind == "photo":
            files.decode_photo(content, "p.jpg")
        else:
            GOOD[kind][0](content)
    except UnusableInput as refusal:
        if "\n" in str(refusal):
            raise AssertionError(f"a refusal of more than one line: {refusal!r}") from refusal


def mutated(content: bytes, longest: int, seed: int) -> bytes:
    """Half of the time a document changed at one place and still a document, else bytes changed anyhow."""
    rng = random.Random(seed)
    if rng.random() < 0.5:
        try:
            document = json.loads(content)
            places = list(spots(document))
            other = rng.choice([*ODD, rng.uniform(-1e4, 1e4), rng.randint(-(10**6), 10**6)])
            return json.dumps(changed(document, rng.choice(places), other)).encode()[:longest]
        except (ValueError, RecursionError):
            pass
    return bytes(atheris.Mutate(content, longest))


def run(kind: str, seconds: int) -> None:
    """One door, fuzzed from a good document or photo onwards; libFuzzer ends the process itself."""
    corpus, found = OUT / kind, OUT / f"{kind}-finding-"
    corpus.mkdir(parents=True, exist_ok=True)
    seed = PHOTO if kind == "photo" else json.dumps(GOOD[kind][1]).encode()
    (corpus / "good").write_bytes(seed)
    limit = max(4096, 2 * len(seed))
    options = [f"-max_total_time={seconds}", f"-max_len={limit}", f"-artifact_prefix={found}", "-timeout=20", "-rss_limit_mb=2048", "-print_final_stats=1", "-verbosity=0"]  # fmt: skip
    by_place = {} if kind == "photo" else {"custom_mutator": mutated}
    atheris.Setup([sys.argv[0], *options, str(corpus)], lambda content: one(kind, content), **by_place)
    atheris.Fuzz()


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("kind", nargs="?", choices=DOORS)
    parser.add_argument("--seconds", type=int, default=60, help="per door")
    args = parser.parse_args()
    failed = []
    for kind in [args.kind] if args.kind else DOORS:
        process = multiprocessing.Process(target=run, args=(kind, args.seconds))
        process.start()
        process.join()
        print(f"{kind}: {'nothing found' if process.exitcode == 0 else 'FOUND something, see ' + str(OUT)}", flush=True)
        failed += [kind] if process.exitcode else []
    return bool(failed)


if __name__ == "__main__":
    sys.exit(main())
