"""Linters, types and import rules, two at a time, before the tests: python -m tests.checks."""

import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
BIN = Path(sys.executable).parent
CHECKS = {  # the longest first
    "mypy (core and server)": [BIN / "mypy", "--no-error-summary"],
    "svelte-check and prettier": ["npm", "run", "--silent", "check", "--prefix", "web"],
    "Vitest": ["npm", "run", "--silent", "test", "--prefix", "web"],
    "import rules": [BIN / "lint-imports", "--no-cache"],
    "ruff (lint)": [BIN / "ruff", "check", "--quiet", "."],
    "ruff (format)": [BIN / "ruff", "format", "--check", "--quiet", "."],
}


def checked(name: str) -> bool:
    """Run one of them, and tell how it went."""
    done = subprocess.run([str(c) for c in CHECKS[name]], cwd=ROOT, capture_output=True, text=True)
    told = done.stdout + done.stderr if done.returncode else ""
    print(f"{'FAIL' if done.returncode else 'ok  '} {name}\n{told}", end="", flush=True)
    return done.returncode == 0


def main() -> None:
    with ThreadPoolExecutor(2) as two:
        sys.exit(0 if all(list(two.map(checked, CHECKS))) else 1)


if __name__ == "__main__":
    main()
