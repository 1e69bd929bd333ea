#!/usr/bin/env python3
"""Starts Zubret. Needs Python 3.11 or later and nothing else; see `python zubret.py --help`."""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
import webbrowser
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from server.environment import data_home
from server.environment import port as port_text
from zubret_core.lock import held_by, hold

ROOT = Path(__file__).resolve().parent
VENV = Path(os.environ.get("ZUBRET_VENV") or ROOT / ".venv")
WEB = ROOT / "web"
INSTALLED = not (WEB / "package.json").exists()
"""Whether this is an installed package: its Python has all that is needed, and the screens are built."""
PYTHON = Path(sys.executable) if INSTALLED else VENV / ("Scripts/python.exe" if os.name == "nt" else "bin/python")
OLDEST_PYTHON, OLDEST_NODE = (3, 11), (20, 19)
ENDING = 3.0
"""Seconds for which one that is ending may still be in the way."""


def say(text: str) -> None:
    """A line for the person who started this."""
    print(text, flush=True)


def stop(text: str) -> None:
    """End with a sentence."""
    sys.exit(f"zubret: {text}")


# Setting up ------------------------------------------------------------------------------------


def digest_of(paths: list[Path]) -> str:
    """One value for the names and contents of files and folders."""
    value = hashlib.sha256()
    for path in paths:
        files = sorted(p for p in path.rglob("*") if p.is_file()) if path.is_dir() else [path]
        for file in files:
            if file.suffix == ".pyc":  # made by running, not by us
                continue
            value.update(file.relative_to(ROOT).as_posix().encode() + b"\0" + file.read_bytes())
    return value.hexdigest()


def is_current(stamp: Path, value: str) -> bool:
    """Whether what a stamp stands for was made from the same."""
    return stamp.exists() and stamp.read_text("ascii") == value


def command(args: list[str | Path], **options) -> None:
    """Run a program; end with its output in view if it fails."""
    try:
        subprocess.run([str(a) for a in args], check=True, **options)
    except FileNotFoundError:
        stop(f"{args[0]} is not installed.")
    except subprocess.CalledProcessError as e:
        stop(f"this command failed with code {e.returncode}: {' '.join(str(a) for a in args)}")


def side_by_side(*tasks: Callable[[], object]) -> None:
    """Prepare several things at once; where one can't be, the launcher ends when the others are done."""
    with ThreadPoolExecutor(len(tasks)) as pool:
        for begun in [pool.submit(task) for task in tasks]:
            begun.result()


def prepare_python(extra: str = "") -> None:
    """The virtual environment with the pinned packages; `extra` names a second list for developers."""
    if INSTALLED:
        return
    lists = [ROOT / "requirements.txt"] + ([ROOT / extra] if extra else [])
    stamp, value = VENV / f"zubret-{extra or 'run'}.stamp", digest_of(lists)
    if is_current(stamp, value) and PYTHON.exists():
        return
    if not PYTHON.exists():
        say("Making the Python environment ...")
        command([sys.executable, "-m", "venv", VENV])
    say("Installing Python packages (a minute or two, once) ...")
    args: list[str | Path] = [PYTHON, "-m", "pip", "install", "--quiet", "--no-compile", "--disable-pip-version-check"]
    for file in lists:
        args += ["-r", file]
    command(args)
    stamp.write_text(value, "ascii")


def npm() -> str:
    """The npm program, once Node.js is known to be there and new enough."""
    node, program = shutil.which("node"), shutil.which("npm")
    wanted = ".".join(map(str, OLDEST_NODE))
    if not node or not program:
        stop(f"Node.js {wanted} or later is needed to build the screens. Install it from your system's packages.")
    found = subprocess.run([node, "--version"], capture_output=True, text=True).stdout.strip()
    if tuple(int(x) for x in found.lstrip("v").split(".")[:2]) < OLDEST_NODE:
        stop(f"Node.js {found} is too old: {wanted} or later is needed to build the screens.")
    return program


def prepare_node_modules() -> None:
    """The screens' packages, as the lock file has them."""
    stamp, value = WEB / "node_modules" / "zubret.stamp", digest_of([WEB / "package.json", WEB / "package-lock.json"])
    if not is_current(stamp, value):
        say("Installing the screens' packages (a minute, once) ...")
        command([npm(), "ci", "--no-fund", "--no-audit", "--loglevel=error"], cwd=WEB)
        stamp.write_text(value, "ascii")


def prepare_web() -> None:
    """The built front end; nothing to do, and no Node.js needed, while its sources are as they were."""
    if INSTALLED:
        return
    sources = [WEB / n for n in ("src", "index.html", "package.json", "package-lock.json", "vite.config.ts")]
    stamp, value = WEB / "dist" / "zubret.stamp", digest_of(sources)
    if is_current(stamp, value):
        return
    prepare_node_modules()
    say("Building the screens ...")
    command([npm(), "run", "build", "--silent"], cwd=WEB)
    stamp.write_text(value, "ascii")


def environment(data: Path, roots: list[Path] | None = None) -> dict[str, str]:
    """What the parts get to know: their data folder, which is made, and the folders of games beside the user's own."""
    env = {**os.environ, "ZUBRET_DATA_DIR": str(data), "PYTHONUNBUFFERED": "1", "PYTHONUTF8": "1"}
    env.setdefault("NUMBA_CACHE_DIR", str(data_home() / "compiled"))
    env.pop("PYTHONDONTWRITEBYTECODE", None)  # every part would compile all of it anew, for a second each
    if roots:
        extra = os.environ.get("ZUBRET_LIBRARY_ROOTS")
        env["ZUBRET_LIBRARY_ROOTS"] = os.pathsep.join([*map(str, roots), *([extra] if extra else [])])
    data.mkdir(parents=True, exist_ok=True)
    return env


# Running ---------------------------------------------------------------------------------------


def port() -> int:
    """The port, once it is free; ends with a sentence where it is none."""
    text = port_text()
    if not text.isdigit() or not 0 < int(text) < 65536:
        stop(f'ZUBRET_PORT is "{text}"; it must be a number from 1 to 65535.')
    until = time.monotonic() + ENDING
    while not is_free(int(text)):
        if time.monotonic() > until:
            stop(f"port {text} is in use. Set ZUBRET_PORT to another number, then start again.")
        time.sleep(0.1)
    return int(text)


def is_free(number: int) -> bool:
    """Whether nobody listens there."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", number))
        except OSError:
            return False
    return True


def only_one(data: Path) -> None:
    """Hold the data folder; where another Zubret does, lead to that one and end."""
    place = data / "launcher.lock"
    address = f"http://127.0.0.1:{port_text()}"
    try:
        data.mkdir(parents=True, exist_ok=True)
        if hold(place, address, ENDING) is not None:
            return
    except OSError as e:
        stop(f"the data folder {data} can't be written to ({e.strerror}). Set ZUBRET_DATA_DIR to another one.")
    other = held_by(place) or address
    if not healthy(other):
        stop(f"another Zubret is starting or stopping on {data} ({other}). Try again in a moment.")
    say(f"Zubret is running already on {data}: {other}")
    if sys.stdout.isatty():
        webbrowser.open(other)
    sys.exit(0)


PARTS = (
    {"server and workers": ["-m", "server.parts"]}
    if hasattr(os, "fork")
    else {
        "server": ["-m", "server.serve"],
        "long worker": ["-m", "server.worker", "long"],
        "quick worker": ["-m", "server.worker", "quick"],
        "background worker": ["-m", "server.worker", "background"],
    }
)


class Parts:
    """The web server and the workers, started and stopped together; a worker that dies comes back. Where the system can fork,
    one process does all that (server/parts.py).
    """

    def __init__(self, env: dict[str, str]):
        self.env = env
        self.running: dict[str, subprocess.Popen] = {}
        self.restarts: dict[str, list[float]] = {name: [] for name in PARTS}

    def start(self, name: str) -> None:
        """One of them, as a process."""
        # A group of its own: Ctrl-C reaches the launcher, which stops all parts in order.
        own = {"creationflags": 0x200} if os.name == "nt" else {"start_new_session": True}
        # It reads its input to the end, which comes when the launcher ends, however it ends.
        part = subprocess.Popen([str(PYTHON), *PARTS[name]], cwd=ROOT, env=self.env, stdin=subprocess.PIPE, **own)
        self.running[name] = part

    def watch(self) -> None:
        """Until the server ends, or a worker keeps dying."""
        while True:
            time.sleep(0.25)
            for name, part in list(self.running.items()):
                if part.poll() is None:
                    continue
                if name.startswith("server"):
                    stop(f"the {name} ended with code {part.returncode}.")
                now = time.monotonic()
                self.restarts[name] = [t for t in self.restarts[name] if now - t < 60] + [now]
                if len(self.restarts[name]) > 5:
                    stop(f"the {name} ended six times within a minute; its messages stand above.")
                say(f"The {name} ended (code {part.returncode}); starting it again.")
                self.start(name)

    def stop(self) -> None:
        """All of them: first asked, then made to."""
        for part in self.running.values():
            if part.poll() is None:
                part.terminate()
        for part in self.running.values():
            try:
                part.wait(timeout=20)
            except subprocess.TimeoutExpired:
                part.kill()
                part.wait()


def healthy(address: str) -> bool:
    """Whether all parts are up there."""
    try:
        with urllib.request.urlopen(f"{address}/api/health", timeout=2) as answer:
            return json.load(answer)["ok"]
    except (OSError, ValueError):
        return False


def serve(env: dict[str, str], number: int, prepare: bool = False) -> None:
    """Start all parts, print the address when they are up, stop them on Ctrl-C. prepare: bring the database up to date before, in
    the process that loads everything anyway, where there is one."""
    address = f"http://127.0.0.1:{number}"
    compile_decoders(env)
    if prepare and len(PARTS) > 1:
        migrate(env)
    own = {"ZUBRET_PREPARE": "1"} if prepare and len(PARTS) == 1 else {}
    parts = Parts({**env, **own, "ZUBRET_PORT": str(number), "ZUBRET_LAUNCHED": "1"})
    for name in ("SIGTERM", "SIGHUP"):  # the second where a terminal is closed
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), lambda *_: sys.exit(0))
    try:
        for name in PARTS:
            parts.start(name)
        deadline = time.monotonic() + 180
        while not healthy(address):
            if next(iter(parts.running.values())).poll() is not None:
                stop("the web server did not start; its messages stand above.")
            if time.monotonic() > deadline:
                stop("Zubret did not come up within three minutes; its messages stand above.")
            time.sleep(0.2)
        say(f"\n  Zubret is ready: {address}\n  Ctrl-C stops it.\n")
        parts.watch()
    except KeyboardInterrupt:
        say("\nStopping ...")
    finally:
        parts.stop()


def compile_decoders(env: dict[str, str]) -> None:
    """Once for all parts, which would otherwise each compile the same, side by side."""
    folder = Path(env["NUMBA_CACHE_DIR"])
    stamp, value = folder / "zubret.stamp", digest_of([ROOT / "requirements.txt", ROOT / "zubret_core"])
    if is_current(stamp, value):
        return
    say("Compiling the decoders (a minute, once) ...")
    if folder == data_home() / "compiled":  # a kernel keeps what it took from another file, whatever that has become
        shutil.rmtree(folder, ignore_errors=True)
    command([PYTHON, "-m", "zubret_core.compiled"], cwd=ROOT, env=env)
    folder.mkdir(parents=True, exist_ok=True)
    stamp.write_text(value, "ascii")


def migrate(env: dict[str, str]) -> None:
    """The database as this version wants it; what is wrong has been told when this ends."""
    done = subprocess.run([str(PYTHON), "manage.py", "prepare"], cwd=ROOT, env=env)
    if done.returncode:
        sys.exit(done.returncode)


# Commands --------------------------------------------------------------------------------------


def run() -> None:
    """start Zubret on your own games"""
    only_one(data_home() / "run")
    number = port()
    side_by_side(prepare_python, prepare_web)
    serve(environment(data_home() / "run"), number, prepare=True)


def demo() -> None:
    """start Zubret with a made-up game to try it on"""
    only_one(data_home() / "demo" / "zubret")
    number = port()
    side_by_side(prepare_python, prepare_web)
    data = data_home() / "demo"
    game, update = data / "Saltglass Ferry", data / "Saltglass Ferry 1.1"
    env = environment(data / "zubret", [data])
    stamp, value = data / "game.stamp", digest_of([ROOT / "standin"])
    if not is_current(stamp, value):
        say("Making the demo game (half a minute, once) ...")
        compiling = threading.Thread(target=compile_decoders, args=(env,))  # if it fails, `serve` says so
        compiling.start()
        for folder in (game, update):
            shutil.rmtree(folder, ignore_errors=True)
        command([PYTHON, "-m", "standin", "make", game, "--update", update], cwd=ROOT, env=env)
        command([PYTHON, "-m", "standin", "lines", data / "new lines"], cwd=ROOT, env=env)
        stamp.write_text(value, "ascii")
        compiling.join()
    migrate(env)
    for folder in (update, game):  # the last one is what a browser shows first
        command([PYTHON, "manage.py", "register_game", folder, "--name", folder.name], cwd=ROOT, env=env)
    serve(env, number)


def mod(rest: list[str]) -> None:
    """check, build or install a package of a mod, or restore the game"""
    data = data_home() / "run"
    if held_by(data / "launcher.lock"):
        stop("Zubret is running on the same data. Do it on its screens, or end it first.")
    only_one(data)
    prepare_python()
    env = environment(data) | {"ZUBRET_JOBS": "at once"}
    sys.exit(subprocess.call([str(PYTHON), "manage.py", "mod", *rest], cwd=ROOT, env=env))


def dev() -> None:
    """run, with the screens rebuilt as you edit them"""
    only_one(data_home() / "dev")
    number = port()
    prepare_python("requirements-dev.txt")
    prepare_node_modules()
    env = environment(data_home() / "dev")
    migrate(env)
    watcher = subprocess.Popen([npm(), "run", "build", "--", "--watch"], cwd=WEB)
    try:
        serve(env, number)
    finally:
        watcher.terminate()


def test(rest: list[str]) -> None:
    """run all checks and tests; arguments go to Django's test runner"""
    env = {**environment(data_home() / "test"), "ZUBRET_JOBS": "at once"}

    def python() -> None:
        prepare_python("requirements-dev.txt")
        compile_decoders(env)

    def web() -> None:
        prepare_web()
        prepare_node_modules()

    side_by_side(python, web, prepare_tools)
    if subprocess.call([str(PYTHON), "-m", "tests.checks"], cwd=ROOT, env=env):
        stop("the checks failed; what is wrong stands above.")
    # The runner's code is ours too; exec keeps its closing lines last.
    sys.exit(subprocess.call([str(PYTHON), "-m", "tests", *rest], cwd=ROOT, env=env))


TOOLS = {
    "chromium": "chromium",
    "chromium-headless-shell": "chromium-headless-shell",
    "sndfile-info": "sndfile-programs",
    "ogginfo": "vorbis-tools",
    "opusenc": "opus-tools",
    "soxi": "sox",
    "zip": "zip",
    "unzip": "unzip",
    "zstd": "zstd",
    "lz4": "lz4",
    "xz": "xz-utils",
    "bzip2": "bzip2",
    "genisoimage": "genisoimage",
    "mscompress": "mscompress",
    "cpio": "cpio",
    "ar": "binutils",
    "lzop": "lzop",
    "mpg123": "mpg123",
    "faad": "faad",
    "brotli": "brotli",
}


def prepare_tools() -> None:
    """The programs that the tests compare with, and the browser; by apt where it is there."""
    missing = sorted({package for program, package in TOOLS.items() if not shutil.which(program)})
    for folder, package in (("alsa", "alsa-utils"), ("freedesktop", "sound-theme-freedesktop")):
        if not Path("/usr/share/sounds", folder).is_dir():
            missing.append(package)
    if not missing:
        return
    apt, root = shutil.which("apt-get"), hasattr(os, "geteuid") and os.geteuid() == 0
    if not apt or not root:
        stop(f"these Debian packages or their like are needed: {' '.join(missing)}. Install them, then start again.")
    say(f"Installing {' '.join(missing)} ...")
    quiet = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    command([apt, "update", "-qq"], env=quiet)
    command([apt, "install", "-y", "-qq", "--no-install-recommends", *missing], env=quiet, stdout=subprocess.DEVNULL)


def bench(rest: list[str]) -> None:
    """measure speed and memory as ratios to named libraries"""
    side_by_side(lambda: prepare_python("requirements-dev.txt"), prepare_web, prepare_tools)
    env = environment(data_home() / "bench")
    migrate(env)
    sys.exit(subprocess.call([str(PYTHON), "-m", "bench", *rest], cwd=ROOT, env=env))


COMMANDS = {"demo": demo, "run": run, "mod": mod, "dev": dev, "test": test, "bench": bench}


def main() -> None:
    """Choose the command."""
    if sys.version_info < OLDEST_PYTHON:
        stop(f"Python {sys.version.split()[0]} is too old: 3.11 or later is needed.")
    parser = argparse.ArgumentParser(
        prog="zubret" if INSTALLED else "zubret.py", description="Zubret, for the sound in packed games."
    )
    choices = parser.add_subparsers(dest="command", required=True)
    for name, function in COMMANDS.items():
        if INSTALLED and name not in ("demo", "run", "mod"):
            continue
        choices.add_parser(name, help=function.__doc__, add_help=name != "mod")
    args, rest = parser.parse_known_args()
    if args.command in ("test", "bench", "mod"):
        COMMANDS[args.command](rest)
    elif rest:
        parser.error(f"{args.command} takes no arguments")
    else:
        COMMANDS[args.command]()


if __name__ == "__main__":
    main()
