"""./bench demo [DIR]: write the demo scans into a folder."""

import sys
from pathlib import Path

from .scenario import CASES, written

if __name__ == "__main__":
    target = Path(sys.argv[1] if len(sys.argv) > 1 else "demo-scans")
    for demo_case in CASES:
        for path in written(demo_case, target):
            print(path)
