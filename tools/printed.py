"""What commands of README, tour and guides must print: a tour that ends with an empty queue exits with 0 as well."""

from __future__ import annotations

import re

EXPECTED = {
    "tinclock info evening --check": r"\d+ players; [\d,]+ rulings: .*accepted.*every file is as it was written",
    "tinclock explain": r"ruling \d+: (accepted|adjusted|rejected)",
    "tinclock explain evening --account beryl": r"\d+ +[\d.]+ +beryl +shot +grit_rifle +- +- +accepted",
    "tinclock explain evening --account clover": r"\d+ +[\d.]+ +clover +shot .* adjusted +damage_differs",
    "tinclock explain demo-output/sample 49": r"The shot hit nobody: .*ruling 49: .*of clover .*finding damage_differs",
    "tinclock explain evening --kind shot --missed": r"The shot hit nobody: .*of (anvil|beryl|clover|dibber) .*\n  -> ",
    "tinclock replay": r"the same, bit for bit",
    "tinclock replay evening --set": r"rulings change.*over_rewind_limit",
    "tinclock replay evening --sweep": r"view\.max_rewind_s.*0\.4",
    "tinclock fairness": r"fairness",
    "tinclock doctor demo-output/sample": r"Nothing shows on most accounts that shouldn't",
    "tinclock weigh evening": r"case opened: \w+",
    "tinclock weigh evening --calibration": r"was weighed before; nothing changed",
    "tinclock cases page": r"page \w+\.html",
    "tinclock cases list": r"\w+ +(open|closed).*\d+ open, ",
    "tinclock detection evening": r"inflate damage +1 +1 .*3 honest accounts.*0 got a case",
    "tinclock import-logs logs/mapping.toml ruled": r"ruled: .*accepted.*recording ruled",
    "tinclock batch replay": r"2 of 2 recordings came out as recorded",
    "tinclock batch replay matches --out results/cap --set": r"[1-9]\d* rulings flipped",
    "tinclock batch replay matches --out results/caps": r"max_rewind_s",
    "tinclock check src": r"no mistakes, nothing unusual.*grit_rifle",
}
"""What a command's output must match, by how the command begins; the longest beginning counts."""


def beginning_of(command: str) -> str:
    """The entry of `EXPECTED` that a command is held against; empty: none."""
    return max((begins for begins in EXPECTED if command.startswith(begins)), key=len, default="")


def complaint(command: str, printed: str) -> str:
    """What is wrong with what a command printed; empty: nothing."""
    begins = beginning_of(command)
    if not begins or re.search(EXPECTED[begins], printed, re.S):
        return ""
    return f"{command} printed something else than {EXPECTED[begins]!r}:\n{printed}"
