"""A database that dies in the middle."""

from __future__ import annotations

from collections.abc import Callable

from flinch.store.local_server import LocalServer


class Dying:
    """Kills a server before the so manieth call of what it watches."""

    def __init__(self, server: LocalServer, step: int) -> None:
        self._server, self._left = server, step

    def before(self, act: Callable[..., object]) -> Callable[..., object]:
        """The same, watched."""

        def watched(*arguments: object) -> object:
            if self._left == 0:
                assert self._server._process is not None
                self._server._process.kill()
                self._server._process.wait()
            self._left -= 1
            return act(*arguments)

        return watched
