"""`scripts/demo` without the installing part, as a process that a test or a fixture watches."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from pathlib import Path
from typing import Any

from tests.waiting import slowly, until

PROJECT = Path(__file__).resolve().parents[1]
PATIENCE = 600
KEPT_IN = "FLINCH_TEST_SIMULATED"
"""Where `tests.kept_demo` writes what the simulator made."""


def free_port() -> int:
    """A loopback port that nothing listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class Demo:
    """The start command on a folder of its own; what it prints is in `said`."""

    def __init__(
        self,
        folder: Path,
        port: int,
        *more: str,
        module: str = "flinch.cli",
        do: str = "demo",
        code: Path = PROJECT / "src",
        **environ: str,
    ) -> None:
        self.port = port
        self.said = ""
        command = [sys.executable, "-m", module, do, "--folder", str(folder), "--port", str(port), *more]
        path = f"{code}:{PROJECT}"
        environment = os.environ | {"PYTHONPATH": path, "PYTHONUNBUFFERED": "1"} | environ
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            env=environment,
            start_new_session=True,
        )
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.said += line

    def wait_for(self, text: str) -> None:
        """Wait until it has printed a text; fails when it ends before."""
        deadline = time.monotonic() + PATIENCE
        while text not in self.said:
            assert self.process.poll() is None or text in self.said, f"it ended early: {self.said}"
            assert time.monotonic() < deadline, f"no {text!r} in: {self.said}"
            slowly(0.05)

    def get(self, path: str) -> Any:
        """The JSON at a path."""
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}{path}", timeout=20) as answer:
            return json.load(answer)

    def ended(self) -> int:
        """Wait until it has ended by itself; its exit status."""
        code = self.process.wait(PATIENCE)
        self._reader.join(PATIENCE)
        return code

    def end(self, how: signal.Signals) -> int:
        """End it by a signal; its exit status."""
        os.kill(self.process.pid, how)
        return self.ended()


def processes_on(folder: Path) -> list[int]:
    """Processes whose command line names the folder."""
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit() and int(entry.name) != os.getpid():
            try:
                line = (entry / "cmdline").read_bytes()
            except OSError:
                continue
            if str(folder).encode() in line:
                found.append(int(entry.name))
    return found


def gone(folder: Path) -> bool:
    """Whether everything that ran on a folder has ended, waiting a minute for it."""
    until(lambda: not processes_on(folder), f"the end of {processes_on(folder)}")
    return True
