"""Hostile input: whatever is read, the only thing that comes out is an error for a person."""

from __future__ import annotations

import os
import random
import time

import pytest

import fuzzing
from support import IS_ROOT, lasting

SECONDS = float(os.environ.get("KLEFF_FUZZ_SECONDS", "8"))


@pytest.mark.parametrize("target", sorted(fuzzing.TARGETS))
@pytest.mark.skipif(not IS_ROOT, reason="needs root: the tree that is worked on has owners")
def test_fed_with_anything(target: str) -> None:
    """The seeds as they are, then changed at random. `scripts/fuzz.py` does the same for as long as one likes."""
    bench, chance = fuzzing.Bench(), random.Random(target + str(int(time.time() // 86400)))
    try:
        own = fuzzing.own(target, bench)
        assert own
        assert [seed for seed in own if not fuzzing.fed(target, bench, seed)] == []
        known = fuzzing.seeds(target, bench)
        for seed in known:
            fuzzing.fed(target, bench, seed)
        accepted = 0
        for count in lasting(SECONDS, at_least=100):
            data = fuzzing.mutated(chance, known, fuzzing.TOKENS[target])
            try:
                accepted += fuzzing.fed(target, bench, data)
            except Exception:
                print(f"input number {count}: {data!r}")
                raise
        print(f"{count:,} inputs, {accepted:,} accepted")
    finally:
        bench.close()
