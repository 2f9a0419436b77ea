"""The command line: `python -m flinch.cli demo` and `python -m flinch.cli openapi`."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from flinch.demo import CannotStart, run_demo

PROJECT = Path(__file__).resolve().parents[2]
RESETS = ("market", "everything")


def _port(text: str) -> int:
    if not text.isdigit() or not 1 <= int(text) <= 65535:
        raise argparse.ArgumentTypeError(f"{text!r} is not a port: give a number from 1 to 65535")
    return int(text)


def main(arguments: list[str] | None = None) -> int:
    """Run a command; returns the exit status."""
    parser = argparse.ArgumentParser(prog="scripts/demo", description="Serve Flinch with the demo market.")
    commands = parser.add_subparsers(dest="command", required=True)
    demo = commands.add_parser("demo", help="serve Flinch with the demo market", prog="scripts/demo")
    demo.add_argument("--port", type=_port, default=8750, help="port on this machine (default 8750)")
    demo.add_argument(
        "--reset",
        nargs="?",
        const="market",
        choices=RESETS,
        help="make the market afresh; what you own stays. With 'everything' that goes too",
    )
    demo.add_argument("--yes", action="store_true", help="do not ask whether to reset")
    demo.add_argument("--folder", type=Path, default=PROJECT / ".flinch", help=argparse.SUPPRESS)
    demo.add_argument("--interface", type=int, help=argparse.SUPPRESS)
    openapi = commands.add_parser("openapi", help="write the interface's API description")
    openapi.add_argument("file", type=Path)
    chosen = parser.parse_args(arguments)
    if chosen.command == "openapi":
        _write_openapi(chosen.file)
        return 0
    try:
        if chosen.reset and not chosen.yes:
            _ask(chosen.reset, chosen.folder)
        run_demo(chosen.folder, chosen.port, reset=chosen.reset, interface=chosen.interface)
    except CannotStart as error:
        print(f"Flinch cannot start: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 0
    return 0


def _ask(reset: str, folder: Path) -> None:
    """Whether to reset, answered by who starts it; CannotStart without a yes."""
    goes = {
        "market": "The demo market goes and is made afresh; tray, screens, baskets, lines and plans stay",
        "everything": "The demo market and all that you own (tray, screens, baskets, lines, plans) go for good",
    }[reset]
    if not sys.stdin.isatty():
        raise CannotStart(f"{goes}. Nobody is here to be asked: say so with --yes")
    if input(f"{goes} ({folder}). Go on? [y/N] ").strip().lower() not in ("y", "yes"):
        raise CannotStart("nothing was reset; start without --reset to go on with what is there")


def _write_openapi(file: Path) -> None:
    from flinch.app import create_app
    from flinch.settings import Settings

    app = create_app(Settings(market_url="mysql+pymysql://nowhere/market", owned_url="mysql+pymysql://nowhere/owned"))
    file.write_text(json.dumps(app.api_doc, indent=1, sort_keys=True) + "\n", encoding="utf-8")


if __name__ == "__main__":
    sys.exit(main())
