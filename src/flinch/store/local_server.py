"""A private MariaDB server: own data folder, reached by its own socket and no network at all. Never the system's instance."""

from __future__ import annotations

import contextlib
import ctypes
import getpass
import json
import os
import re
import secrets
import shutil
import signal
import stat
import subprocess
import tempfile
import time
from pathlib import Path

import pymysql

from flinch.store.databases import DEMO, Databases
from flinch.store.errors import DatabaseAway

_PARENT_DEATH = 1
_READY_SECONDS = 60
_SOCKET = "server.sock"


class ServerFailed(Exception):
    """The database server did not start; the message says where to look."""


def end_with_parent() -> None:
    """In a child process: be told to stop when the parent dies, however it dies."""
    with contextlib.suppress(OSError):
        ctypes.CDLL("libc.so.6", use_errno=True).prctl(_PARENT_DEATH, signal.SIGTERM)


class LocalServer:
    """A MariaDB server on `folder`, started and stopped by its owner."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.resolve()
        self.data = self.folder / "data"
        self.log = self.folder / "server.log"
        self._password = secrets.token_hex(16)
        self._process: subprocess.Popen[bytes] | None = None
        self._run: Path | None = None

    @property
    def databases(self) -> Databases:
        """Its databases; of a server that was started."""
        return Databases(self._socket, self._password)

    @property
    def owned_url(self) -> str:
        """Address of the database of what users own, for SQLAlchemy."""
        return self.databases.owned_url

    @property
    def market_url(self) -> str:
        """Address of the demo market's database, for SQLAlchemy."""
        return self.databases.market_url(DEMO)

    @property
    def _socket(self) -> Path:
        assert self._run is not None, "a server that was not started has no address"
        return self._run / _SOCKET

    def start(self) -> None:
        """Make the data folder when there is none or only half of one, stop a server left over on it, start."""
        self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        _require_own(self.folder)
        self.folder.chmod(0o700)
        self._stop_left_over()
        whole = self.folder / "installed"
        if not whole.exists():
            shutil.rmtree(self.data, ignore_errors=True)
            self._install()
            whole.touch()
        self._launch()

    def erase(self) -> None:
        """Remove everything, stopping a server left over on it first."""
        self._stop_left_over()
        shutil.rmtree(self.folder, ignore_errors=True)

    def restart_if_down(self) -> bool:
        """Start again, at the same address, a server that has ended by itself; True if it had."""
        if self._process is None or self._process.poll() is None:
            return False
        self._launch()
        return True

    def stop(self) -> None:
        """Stop the server and wait until it is down; one that is started again has the same address."""
        if self._process is not None:
            _end(self._process)
            self._process = None
        (self.folder / "reach.json").unlink(missing_ok=True)
        self._leave_socket()

    def _install(self) -> None:
        # The installing script takes its paths apart at spaces and the like: it is given one without, and what it made is moved.
        plain = re.fullmatch(r"[\w./+-]+", str(self.data), re.ASCII) is not None
        with contextlib.ExitStack() as stack:
            data = self.data
            if not plain:
                data = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="flinch-"))) / "data"
            self._make_data(data)
            if data != self.data:
                shutil.move(data, self.data)

    def _make_data(self, data: Path) -> None:
        command = [
            _program("mariadb-install-db"),
            "--no-defaults",
            f"--datadir={data}",
            # The system's user that runs the server is its root, seen by the socket; there is no password to guess.
            "--auth-root-authentication-method=socket",
            f"--auth-root-socket-user={getpass.getuser()}",
            "--skip-test-db",
            f"--user={getpass.getuser()}",
        ]
        done = subprocess.run(command, capture_output=True, text=True, check=False, env=self._environment())
        if done.returncode:
            raise ServerFailed(f"the database folder {data} could not be made: {done.stderr.strip()[-300:]}")

    def _environment(self) -> dict[str, str]:
        """With a folder of its own for temporary tables: a server that starts removes all that lie there, whosever they are."""
        temporary = self.folder / "tmp"
        temporary.mkdir(mode=0o700, exist_ok=True)
        return os.environ | {"TMPDIR": str(temporary)}

    def _leave_socket(self) -> None:
        # Its name is kept: who starts again is found where they were.
        if self._run is not None:
            shutil.rmtree(self._run, ignore_errors=True)

    def _launch(self) -> None:
        # A socket's path may not exceed about 100 characters, so it lives in the temporary folder: in one of a name that nobody
        # can know before, made by us and open to us alone. So who answers there is our server, also after it was down.
        if self._run is None:
            self._run = Path(tempfile.mkdtemp(prefix="flinch-"))
        self._run.mkdir(mode=0o700, exist_ok=True)
        _require_own(self._run)
        command = [
            _program("mariadbd"),
            "--no-defaults",
            f"--datadir={self.data}",
            f"--socket={self._socket}",
            f"--pid-file={self.folder / 'server.pid'}",
            f"--log-error={self.log}",
            "--skip-networking",
            f"--user={getpass.getuser()}",
            "--character-set-server=utf8mb4",
            "--collation-server=utf8mb4_bin",
            "--innodb-flush-log-at-trx-commit=1",
            "--innodb-buffer-pool-size=192M",
            "--innodb-log-file-size=96M",
            "--performance-schema=OFF",
            "--skip-name-resolve",
            "--local-infile=ON",
            "--max-connections=64",
        ]
        # Its own process group, so that Ctrl-C reaches it only when its owner says so.
        self._process = subprocess.Popen(
            command,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
            preexec_fn=end_with_parent,
            env=self._environment(),
        )
        deadline = time.monotonic() + _READY_SECONDS
        while time.monotonic() < deadline:
            if self._process.poll() is not None:
                raise ServerFailed(f"the database server ended at start; its log is {self.log}")
            with contextlib.suppress(pymysql.MySQLError, OSError, DatabaseAway):
                self.databases.prepare()
                self._say_where()
                return
            time.sleep(0.05)
        raise ServerFailed(f"the database server did not answer within {_READY_SECONDS} s; its log is {self.log}")

    def _say_where(self) -> None:
        """Let commands of the same user reach it: a file that is ours alone, as the server's folder is."""
        place = self.folder / "reach.json"
        place.unlink(missing_ok=True)
        with os.fdopen(os.open(place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as file:
            json.dump({"socket": str(self._socket), "password": self._password}, file)

    def _stop_left_over(self) -> None:
        """A server that outlived its owner still holds the data folder; end that one and no other."""
        try:
            pid = int((self.folder / "server.pid").read_text())
            command = Path(f"/proc/{pid}/cmdline").read_bytes()
        except (OSError, ValueError):
            return
        if f"--datadir={self.data}".encode() not in command:
            return
        os.kill(pid, signal.SIGTERM)
        deadline = time.monotonic() + _READY_SECONDS
        while _runs(pid) and time.monotonic() < deadline:
            time.sleep(0.05)


def _require_own(folder: Path) -> None:
    """Refuse a folder that is a link, or that another user owns or may write to."""
    status = folder.lstat()
    if stat.S_ISLNK(status.st_mode) or status.st_uid != os.getuid() or status.st_mode & 0o022:
        raise ServerFailed(
            f"the folder {folder} is a link, or another user owns it or may write to it: remove it, or take that right away"
        )


def _program(name: str) -> str:
    found = shutil.which(name) or shutil.which(name, path="/usr/sbin:/usr/local/sbin:/sbin")
    if found is None:
        raise ServerFailed(f"{name} is not installed; scripts/demo installs Debian's mariadb-server-core")
    return found


def _runs(pid: int) -> bool:
    """Whether a process does anything still: one that has ended and whose parent has not asked has no command line."""
    try:
        return bool(Path(f"/proc/{pid}/cmdline").read_bytes())
    except OSError:
        return False


def _end(process: subprocess.Popen[bytes]) -> None:
    if process.poll() is None:
        process.terminate()
        try:
            process.wait(60)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
