"""What the command `zubret` runs where Zubret was installed as a package: the same launcher as from a checkout, on the
application that came with it."""

from __future__ import annotations

import runpy
import sys
from pathlib import Path

APP = Path(__file__).resolve().parent / "app"


def main() -> None:
    """Start the launcher; it knows by what lies beside it that nothing has to be set up."""
    sys.path.insert(0, str(APP))
    runpy.run_path(str(APP / "zubret.py"), run_name="__main__")
