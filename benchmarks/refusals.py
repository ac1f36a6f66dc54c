"""Photographs that must be refused."""


def main(seed: int, jobs: int, photos: int) -> None:
    raise SystemExit("not written yet")
