"""The names of a random sample of changes, or what became of them: mutation_score.py FOLDER COUNT SEED [--score]."""

from __future__ import annotations

import json
import random
import sys
from collections import Counter
from pathlib import Path

UNREACHED, NOTICED, UNNOTICED = 33, 1, 0


def main(folder: str, count: int, seed: int, is_score: bool) -> None:
    """Print one or the other."""
    codes: dict[str, int | None] = {}
    for path in Path(folder, "mutants", "src").rglob("*.meta"):
        codes |= json.loads(path.read_text("utf-8")).get("exit_code_by_key", {})
    sample = random.Random(seed).sample(sorted(codes), count)
    if not is_score:
        print("\n".join(sample))
        return
    counts = Counter(codes[name] for name in sample)
    if counts[None] == count:
        sys.exit("Nothing was run: the unit tests failed before the first change. See mutmut.log.")
    reached = count - counts[UNREACHED]
    noticed = reached - counts[UNNOTICED] - counts[None]
    print(f"{count} of {len(codes):,} changes, seed {seed}: unit tests reach {reached} and notice {noticed} "
          f"({100 * noticed / max(1, reached):.0f} %)")  # fmt: skip
    print("unnoticed:", *(name for name in sample if codes[name] == UNNOTICED), sep="\n  ")


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), "--score" in sys.argv)
