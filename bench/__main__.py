"""python zubret.py bench [PART ...]: the table of ratios. Parts: codec, packing, sifting, sounds, table, rebuild, install, range, archive, changes, size, idle,
load, screens, lines.

Two parts run only where they are named: `full`, a quarter of an hour and 25 GB of disk, and `page`, which measures as `codec`
does and writes docs/codecs.md.
"""

from __future__ import annotations

import os
import platform
import shutil
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
os.environ["ZUBRET_JOBS"] = "at once"


def main() -> None:
    import django

    django.setup()
    from server.ready import make_ready

    from . import (
        archives,
        codecs,
        full,
        idle,
        installs,
        lines,
        load,
        packing,
        ranges,
        rebuilds,
        screens,
        sifting,
        size,
        sounds,
        surveys,
        tables,
    )

    make_ready()  # as server and workers do
    parts = {
        "codec": codecs.rows,
        "packing": packing.rows,
        "sifting": sifting.rows,
        "sounds": sounds.rows,
        "table": tables.rows,
        "rebuild": rebuilds.rows,
        "install": installs.rows,
        "range": ranges.rows,
    }
    parts |= {
        "archive": archives.rows,
        "changes": surveys.rows,
        "size": size.rows,
        "idle": idle.rows,
        "load": load.rows,
        "screens": screens.rows,
        "lines": lines.rows,
    }
    wanted = sys.argv[1:] or list(parts)
    parts |= {"full": full.rows, "page": codecs.page}
    unknown = [p for p in wanted if p not in parts]
    if unknown:
        sys.exit(f"There is no part {', '.join(unknown)}. Parts: {', '.join(parts)}.")
    print(f"Python {platform.python_version()}, {platform.machine()}, {os.cpu_count()} cores\n")
    print(f"{'what':<58} {'reference':<34} {'median':>7}     {'spread':<17} {'limit':<12}")
    failed = 0
    for part in wanted:
        folder = Path(tempfile.mkdtemp(prefix="zubret-bench-", dir=os.environ.get("ZUBRET_BENCH_DIR")))
        try:
            for row in parts[part](folder):
                print(row.text(), flush=True)
                if row.note:
                    print(f"    {row.note}", flush=True)
                failed += not row.holds
        finally:
            shutil.rmtree(folder, ignore_errors=True)
    sys.exit(1 if failed else 0)


if __name__ == "__main__":
    main()
