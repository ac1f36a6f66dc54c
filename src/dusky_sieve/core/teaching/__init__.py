"""Learning a sheet's layout from a photograph of a good one."""

from dusky_sieve.core.teaching.learn import Taught, teach
from dusky_sieve.core.teaching.spec import KnownBlock, Spec, parse_spec

__all__ = ["KnownBlock", "Spec", "Taught", "parse_spec", "teach"]
