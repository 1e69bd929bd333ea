"""Linters, types and import rules, before the tests: python -m tests.checks."""

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
BIN = Path(sys.executable).parent
CHECKS = {
    "ruff (format)": [BIN / "ruff", "format", "--check", "--quiet", "."],
    "ruff (lint)": [BIN / "ruff", "check", "--quiet", "."],
    "mypy (core and server)": [BIN / "mypy", "--no-error-summary"],
    "import rules": [BIN / "lint-imports", "--no-cache"],
    "svelte-check and prettier": ["npm", "run", "--silent", "check", "--prefix", "web"],
    "Vitest": ["npm", "run", "--silent", "test", "--prefix", "web"],
}


def main() -> None:
    failed = []
    for name, command in CHECKS.items():
        done = subprocess.run([str(c) for c in command], cwd=ROOT, capture_output=True, text=True)
        print(f"{'ok  ' if done.returncode == 0 else 'FAIL'} {name}", flush=True)
        if done.returncode:
            failed.append(name)
            print(done.stdout + done.stderr)
    sys.exit(1 if failed else 0)


if __name__ == "__main__":
    main()
