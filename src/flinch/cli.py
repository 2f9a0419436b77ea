"""The command line: `flinch`, and what `scripts/demo` runs."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from flinch.commands.told import Refused, complain
from flinch.demo import CannotStart, run_demo
from flinch.errors import FlinchError
from flinch.folder import AlreadyRunning
from flinch.store.databases import DEMO
from flinch.store.errors import CannotMigrate
from flinch.store.local_server import ServerFailed

PROJECT = Path(__file__).resolve().parents[2]
# What is kept lies in the project, or at home where Flinch was installed.
FOLDER = (PROJECT if (PROJECT / "scripts" / "flinch").exists() else Path.home()) / ".flinch"
RESETS = ("market", "everything")


def _port(text: str) -> int:
    if not text.isdigit() or not 1 <= int(text) <= 65535:
        raise argparse.ArgumentTypeError(f"{text!r} is not a port: give a number from 1 to 65535")
    return int(text)


def main(arguments: list[str] | None = None) -> int:
    """Run a command; returns the exit status: 0 done, 1 refused or failed, 2 wrong use."""
    given = sys.argv[1:] if arguments is None else arguments
    chosen = _parser(given).parse_args(given)
    try:
        chosen.run(chosen)
    except CannotStart as error:
        complain(f"Flinch cannot start: {error}")
        return 1
    except (Refused, FlinchError, AlreadyRunning, ServerFailed, CannotMigrate) as error:
        complain(f"flinch: {error}")
        return 1
    except KeyboardInterrupt:
        return 0 if chosen.command in ("demo", "serve") else 1
    return 0


def _parser(given: list[str]) -> argparse.ArgumentParser:
    # Started by scripts/demo it is that, as far as anybody sees.
    prog = "scripts/demo" if given[:1] == ["demo"] else "flinch"
    parser = argparse.ArgumentParser(
        prog=prog, description="Options screening on a market of one's own, or the demo's."
    )
    commands = parser.add_subparsers(dest="command", required=True)
    common = argparse.ArgumentParser(add_help=False)
    common.add_argument("--json", action="store_true", help="one object a line, for machines")
    common.add_argument("--folder", type=Path, default=FOLDER, help=argparse.SUPPRESS)
    _add_demo(commands.add_parser("demo", help="serve Flinch with the demo market", prog="scripts/demo"))
    # What a command works with takes seconds to import, which a start of the demo must not wait for.
    if given[:1] != ["demo"]:
        from flinch.commands.backups import add_backup, add_restore
        from flinch.commands.files import add_check, add_export, add_fetch, add_import, add_publish
        from flinch.commands.markets import add_market_commands

        add_market_commands(commands.add_parser("market", help="markets beside each other: new, list, remove"), common)
        add_import(
            commands.add_parser("import", parents=[common], help="load files, or a folder of them, into a market")
        )
        add_publish(
            commands.add_parser("publish", parents=[common], help="compute again what follows from a market's chains")
        )
        add_fetch(commands.add_parser("fetch", parents=[common], help="ask a source for what is new"))
        add_check(commands.add_parser("check", parents=[common], help="say what looks wrong of a market's data"))
        add_export(commands.add_parser("export", parents=[common], help="write a market's data as files"))
        add_backup(
            commands.add_parser("backup", parents=[common], help="write all that you own, and markets, into a file")
        )
        add_restore(commands.add_parser("restore", parents=[common], help="bring back what such a file holds"))
        _add_serve(commands.add_parser("serve", parents=[common], help="serve Flinch with what is there"))
        openapi = commands.add_parser("openapi", help="write the interface's API description")
        openapi.add_argument("file", type=Path)
        openapi.set_defaults(run=lambda chosen: _write_openapi(chosen.file))
    return parser


def _add_demo(demo: argparse.ArgumentParser) -> None:
    demo.add_argument("--port", type=_port, default=8750, help="port on this machine (default 8750)")
    demo.add_argument(
        "--reset",
        nargs="?",
        const="market",
        choices=RESETS,
        help="make the market afresh; what you own stays. With 'everything' that goes too",
    )
    demo.add_argument(
        "--run",
        dest="speed",
        type=int,
        choices=(0, 1, 10, 60),
        help="let the market run so many times as fast as the clock; 0: stand still (without it: as it did)",
    )
    demo.add_argument("--yes", action="store_true", help="do not ask whether to reset")
    demo.add_argument("--folder", type=Path, default=FOLDER, help=argparse.SUPPRESS)
    demo.add_argument("--interface", type=int, help=argparse.SUPPRESS)
    demo.set_defaults(run=_demo)


def _add_serve(serve: argparse.ArgumentParser) -> None:
    serve.add_argument("--port", type=_port, default=8750, help="port on this machine (default 8750)")
    serve.add_argument("--market", help="the market that is opened; the one chosen last without it")
    serve.set_defaults(
        run=lambda chosen: run_demo(chosen.folder, chosen.port, demo=chosen.market == DEMO, market=chosen.market)
    )


def _demo(chosen: argparse.Namespace) -> None:
    if chosen.reset and not chosen.yes:
        _ask(chosen.reset, chosen.folder)
    run_demo(chosen.folder, chosen.port, reset=chosen.reset, interface=chosen.interface, speed=chosen.speed)


def _ask(reset: str, folder: Path) -> None:
    """Whether to reset, answered by who starts it; CannotStart without a yes."""
    goes = {
        "market": "The demo market goes and is made afresh; other markets, tray, screens, baskets, lines and plans stay",
        "everything": "All markets and all that you own (tray, screens, baskets, lines, plans) go for good",
    }[reset]
    if not sys.stdin.isatty():
        raise CannotStart(f"{goes}. Nobody is here to be asked: say so with --yes")
    if input(f"{goes} ({folder}). Go on? [y/N] ").strip().lower() not in ("y", "yes"):
        raise CannotStart("nothing was reset; start without --reset to go on with what is there")


def _write_openapi(file: Path) -> None:
    from flinch.app import create_app
    from flinch.settings import Settings
    from flinch.store.databases import Databases

    app = create_app(Settings(), Databases(Path("nowhere"), "nobody"))
    file.write_text(json.dumps(app.api_doc, indent=1, sort_keys=True) + "\n", encoding="utf-8")


if __name__ == "__main__":
    sys.exit(main())
