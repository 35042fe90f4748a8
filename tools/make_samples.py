"""Write the sample logs that ship with the package: python tools/make_samples.py"""

import pathlib

from omphalon.standin.samples import SAMPLES

FOLDER = pathlib.Path(__file__).parents[1] / "src" / "omphalon" / "samples"

if __name__ == "__main__":
    for name, lines in SAMPLES.items():
        (FOLDER / name).write_text("\n".join(lines()) + "\n", encoding="utf-8")
        print(name, (FOLDER / name).stat().st_size, "bytes")
