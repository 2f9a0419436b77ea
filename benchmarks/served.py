"""The application on a database server that is there, a process of its own: `python served.py SOCKET PASSWORD COLUMNS PORT`."""

from __future__ import annotations

import sys
import threading
from pathlib import Path

from flinch.memory import give_back, keep_little


def main() -> None:
    keep_little()
    from flinch.app import create_app
    from flinch.market import warm
    from flinch.serving import make_server
    from flinch.settings import Settings
    from flinch.store.databases import DEMO, Databases

    socket, password, columns, port = sys.argv[1:]
    app = create_app(Settings(columns=Path(columns)), Databases(Path(socket), password))

    def prepare() -> None:
        warm(app.extensions["flinch"].markets.open(DEMO).holder.current(), lambda share: None)
        give_back()

    threading.Thread(target=prepare, daemon=True).start()
    make_server(app, "127.0.0.1", int(port)).run()


if __name__ == "__main__":
    main()
