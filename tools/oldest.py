"""Print every lower bound of pyproject.toml as a pip constraint, so that CI can test what we say we work with."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

PYPROJECT = Path(__file__).resolve().parent.parent / "pyproject.toml"


def oldest() -> list[str]:
    """`numpy==2.0` for `numpy>=2.0`, each package once; our own extras aside."""
    project = tomllib.loads(PYPROJECT.read_text(encoding="utf-8"))["project"]
    wanted = [*project["dependencies"], *(one for extra in project["optional-dependencies"].values() for one in extra)]
    bounds: dict[str, str] = {}
    for requirement in wanted:
        found = re.fullmatch(r"([\w-]+)(\[[\w,]+\])?(?:>=([\d.]+))?(?:,<[\d.]+)?(?:;.*)?", requirement)
        if found is None:
            raise SystemExit(f"{requirement!r} of pyproject.toml isn't of the form name>=version")
        name, _, version = found.groups()
        if name == "tinclock":
            continue
        if version is None:
            raise SystemExit(f"{name} of pyproject.toml has no lower bound; say from which version it works")
        if bounds.setdefault(name, version) != version:
            raise SystemExit(f"{name} has two lower bounds in pyproject.toml: {bounds[name]} and {version}")
    return [f"{name}=={version}" for name, version in sorted(bounds.items())]


if __name__ == "__main__":
    print("\n".join(oldest()))
