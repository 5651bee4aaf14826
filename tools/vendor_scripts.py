"""Fetch the two JavaScript libraries that pages draw with, at pinned versions, into the package.

`python tools/vendor_scripts.py` needs npm. Of three.js only what the drawing code uses is kept, as one file; uPlot is
kept whole. Their licences lie beside them.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
from pathlib import Path

VERSIONS = {"three": "0.187.0", "uplot": "1.6.32", "esbuild": "0.25.12"}
DRAWING = Path(__file__).parent.parent / "src" / "tinclock" / "report" / "drawing"
VENDOR = DRAWING / "vendor"


def used_of_three() -> list[str]:
    """The names of three.js that our own drawing code mentions."""
    ours = [*DRAWING.glob("*.js"), *(DRAWING.parents[1] / "review" / "static").glob("*.js")]
    return sorted({name for file in ours for name in re.findall(r"\bTHREE\.([A-Z]\w+)", file.read_text())})


def main() -> None:
    """Fetch, cut down, and put down."""
    names = used_of_three()
    entry = f"export {{ {', '.join(names)} }} from 'three';\n"
    entry += "export { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js';\n"
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        (folder / "package.json").write_text('{"private": true}')
        wanted = [f"{name}@{version}" for name, version in VERSIONS.items()]
        subprocess.run(["npm", "install", "--no-audit", "--no-fund", "--silent", *wanted], cwd=folder, check=True)
        (folder / "entry.js").write_text(entry)
        bundle = ["node_modules/.bin/esbuild", "entry.js", "--bundle", "--minify", "--format=esm", "--charset=ascii",
                  "--legal-comments=none", f"--banner:js=/* three.js {VERSIONS['three']}, MIT; see three.LICENSE */",
                  "--outfile=three.js"]  # fmt: skip
        subprocess.run(bundle, cwd=folder, check=True)
        (folder / "plot.js").write_text("export { default as uPlot } from 'uplot';\n")
        plot = ["node_modules/.bin/esbuild", "plot.js", "--bundle", "--minify", "--format=esm", "--charset=ascii",
                "--legal-comments=none", f"--banner:js=/* uPlot {VERSIONS['uplot']}, MIT; see uplot.LICENSE */",
                "--outfile=uplot.js"]  # fmt: skip
        subprocess.run(plot, cwd=folder, check=True)
        VENDOR.mkdir(parents=True, exist_ok=True)
        modules = folder / "node_modules"
        for source, name in (
            (folder / "three.js", "three.js"), (modules / "three" / "LICENSE", "three.LICENSE"),
            (folder / "uplot.js", "uplot.js"), (modules / "uplot" / "dist" / "uPlot.min.css", "uplot.css"),
            (modules / "uplot" / "LICENSE", "uplot.LICENSE"),
        ):  # fmt: skip
            shutil.copyfile(source, VENDOR / name)
            print(f"{VENDOR.name}/{name}: {(VENDOR / name).stat().st_size} bytes")


if __name__ == "__main__":
    main()
