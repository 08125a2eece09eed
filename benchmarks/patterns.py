"""Regular expressions and LIKE over texts: what they take beside Python's own engine, and that none of them blows up.

python -m benchmarks.patterns [ROWS]
"""

import re
import sys
import time

import numpy as np

from nimble_otter.query.local.conditions import like_regex
from nimble_otter.table.text.patterns import _is_bounded, like_tester, tester

PATTERNS = ("h.gh 0\\.1[0-5]", "^station 1.*9$", "(st|x)a.*h+", "[0-9]+ river", "high 0\\.(1|2|3)7")
LIKES = ("%river%high%7", "station 1%", "%9_7%")


def timed(test, texts):
    best = None
    for _ in range(3):
        began = time.perf_counter()
        found = sum(map(test, texts))
        spent = time.perf_counter() - began
        best = spent if best is None else min(best, spent)
    return best, found


def main(rows):
    dice = np.random.default_rng(4)
    texts = [f"station {n} river level high {x:.12f}" for n, x in enumerate(dice.random(rows))]
    print(f"{rows} texts; share of Python's engine (1 = as long)")
    for pattern in PATTERNS:
        stick = re.compile(pattern, re.DOTALL).search
        own, found = timed(tester(pattern, True), texts)
        other, same = timed(lambda text, stick=stick: stick(text) is not None, texts)
        assert found == same
        print(f"  ~ {pattern:20} {own / other:5.2f}  {'own' if _is_bounded(pattern, True) else 'RE2'}  {found} found")
    for pattern in LIKES:
        regex = like_regex(pattern)
        stick = re.compile(regex, re.DOTALL).fullmatch
        own, found = timed(like_tester(regex, True), texts)
        other, same = timed(lambda text, stick=stick: stick(text) is not None, texts)
        assert found == same
        print(f"  like {pattern:17} {own / other:5.2f}  pieces  {found} found")
    for what, test, text in (
        ("(a+)+$ on 100 000 letters", tester("(a+)+$", True), "a" * 100_000 + "b"),
        ("like %a%a%a%a%b on 100 000 letters", like_tester(like_regex("%a%a%a%a%b"), True), "a" * 100_000),
    ):
        print(f"  {what}: {1000 * timed(test, [text])[0]:.2f} ms")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 300_000)
