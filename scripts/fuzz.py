"""Feed a reader of Kleff with hostile input for as long as asked; a finding is written to a file and ends the run.

    python scripts/fuzz.py TARGET [--seconds 3600] [--seed 1]

Guided by coverage where the package `atheris` is installed (extra `fuzz`), else by chance alone. Inputs that reach something new
are kept in the folder named by --keep; put few and small ones into tests/corpus/TARGET.
"""

from __future__ import annotations

import argparse
import random
import sys
import time
import traceback
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("target")
    parser.add_argument("--seconds", type=float, default=3600)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--keep", type=Path, default=None)
    parser.add_argument("--by-chance", action="store_true", help="even where atheris is installed")
    asked = parser.parse_args()
    try:
        if asked.by_chance:
            raise ImportError
        import atheris
    except ImportError:
        sys.exit(by_chance(asked.target, asked.seconds, asked.seed))
    with atheris.instrument_imports(include=["kleff"]):
        import fuzzing
    bench = fuzzing.Bench()
    keep = asked.keep or bench.folder / "keep"
    keep.mkdir(parents=True, exist_ok=True)
    for number, seed in enumerate(fuzzing.seeds(asked.target, bench)):
        (keep / f"seed-{number}").write_bytes(seed)
    words = bench.folder / "words"
    tokens = ("".join(f"\\x{b:02x}" for b in token) for token in fuzzing.TOKENS[asked.target])
    words.write_text("".join(f'"{token}"\n' for token in tokens))
    options = [f"-max_total_time={int(asked.seconds)}", f"-seed={asked.seed}", f"-dict={words}", "-timeout=1200", "-max_len=32768"]
    atheris.Setup(
        [sys.argv[0], *options, f"-artifact_prefix=finding-{asked.target}-", str(keep)],
        lambda data: feed(fuzzing, asked.target, bench, data),
    )
    atheris.Fuzz()


def feed(fuzzing: object, target: str, bench: object, data: bytes) -> None:
    fuzzing.fed(target, bench, data)  # type: ignore[attr-defined]


def by_chance(target: str, seconds: float, seed: int) -> int:
    """Mutations of the seeds by chance. Returns the exit code."""
    import fuzzing

    bench, chance = fuzzing.Bench(), random.Random(seed)
    known = fuzzing.seeds(target, bench)
    deadline, count = time.monotonic() + seconds, 0
    while time.monotonic() < deadline:
        data = fuzzing.mutated(chance, known, fuzzing.TOKENS[target])
        try:
            accepted = fuzzing.fed(target, bench, data)
        except Exception:
            traceback.print_exc()
            finding = Path(f"finding-{target}-{seed}-{count}")
            finding.write_bytes(data)
            print(f"after {count:,} inputs: written to {finding}", file=sys.stderr)
            return 1
        count += 1
        if accepted and len(known) < 300:
            known.append(data)
    print(f"{target}: {count:,} inputs, nothing found")
    bench.close()
    return 0


if __name__ == "__main__":
    main()
