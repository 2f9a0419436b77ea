"""The command line: `python -m flinch.cli demo` and `python -m flinch.cli openapi`."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from flinch.demo import CannotStart, run_demo

PROJECT = Path(__file__).resolve().parents[2]


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
    demo.add_argument("--reset", action="store_true", help="make the market and the database afresh; the tray goes too")
    demo.add_argument("--folder", type=Path, default=PROJECT / ".flinch", help=argparse.SUPPRESS)
    demo.add_argument("--interface", type=int, help=argparse.SUPPRESS)
    openapi = commands.add_parser("openapi", help="write the interface's API description")
    openapi.add_argument("file", type=Path)
    chosen = parser.parse_args(arguments)
    if chosen.command == "openapi":
        _write_openapi(chosen.file)
        return 0
    try:
        run_demo(chosen.folder, chosen.port, reset=chosen.reset, interface=chosen.interface)
    except CannotStart as error:
        print(f"Flinch cannot start: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 0
    return 0


def _write_openapi(file: Path) -> None:
    from flinch.app import create_app
    from flinch.settings import Settings

    app = create_app(Settings(market_url="mysql+pymysql://nowhere/market", owned_url="mysql+pymysql://nowhere/owned"))
    file.write_text(json.dumps(app.api_doc, indent=1, sort_keys=True) + "\n", encoding="utf-8")


if __name__ == "__main__":
    sys.exit(main())
