"""Files that were brought: they come in parts, lie in a folder a market, and stay until they are loaded or put away."""

from __future__ import annotations

import json
import os
import re
import shutil
import tempfile
import threading
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

from flinch.errors import FlinchError

MOST = 60
"""Files of a market that lie here at most."""
LARGEST = 64 << 30
_LEFT_FREE = 1 << 30
_ABOUT, _REFUSED = "about.json", "refused.csv"


class NoSuchUpload(FlinchError):
    """A file is not here."""

    status, kind = 404, "no_such_upload"

    def __init__(self) -> None:
        super().__init__("This file is not here any more. Bring it again.")


class CannotTake(FlinchError):
    """A file cannot be taken in."""

    status, kind = 422, "cannot_take"


class Upload(NamedTuple):
    """A file that was brought: its name as it came, its bytes, how many of them are here, the last work on it, and whether it was
    loaded, which leaves its refused rows alone."""

    id: int
    name: str
    size: int
    here: int
    job: int | None
    loaded: bool

    @property
    def whole(self) -> bool:
        """Whether all of it is here."""
        return self.here == self.size


class Inbox:
    """The files of all markets. What lies in the folder is told by the folder alone."""

    def __init__(self, folder: Path | None) -> None:
        self._given, self._made = folder, threading.Lock()
        self._temporary: Path | None = None
        self._lock = threading.Lock()

    def begin(self, market: str, name: str, size: int) -> Upload:
        """A place for a file. Raises CannotTake when there is none."""
        if not 0 < size <= LARGEST:
            raise CannotTake(f"{name[:80]} is empty." if size == 0 else f"{name[:80]} is larger than a file may be.")
        with self._lock:
            here = self.all(market)
            if len(here) >= MOST:
                raise CannotTake(f"{MOST} files are here already: load some or put them away first.")
            place = self._folder(market)
            place.mkdir(parents=True, exist_ok=True)
            if size > shutil.disk_usage(place).free - _LEFT_FREE:
                raise CannotTake(f"There is no room on the disk for {name[:80]}.")
            upload = Upload(max((one.id for one in here), default=0) + 1, name, size, 0, None, loaded=False)
            file = self.file(market, upload)
            file.parent.mkdir(parents=True)
            file.touch()
            self._write(market, upload)
            return upload

    def take(self, market: str, number: int, at: int, data: bytes) -> Upload:
        """A part of a file, from a byte on; one that is here already is no mistake. Raises CannotTake and NoSuchUpload."""
        with self._lock:
            upload = self.one(market, number)
            if at + len(data) <= upload.here:
                return upload
            if at != upload.here or at + len(data) > upload.size or upload.loaded:
                raise CannotTake(f"The next part of {upload.name[:80]} begins at byte {upload.here}.")
            with self.file(market, upload).open("ab") as file:
                file.write(data)
            return upload._replace(here=at + len(data))

    def divide(self, market: str, number: int, parts: list[str]) -> Upload:
        """Let a whole file lie here once for each of some parts that it has, named after them; returns the first, which takes its
        place. Raises CannotTake when there is no room for so many."""
        with self._lock:
            upload, here = self.one(market, number), self.all(market)
            if len(here) + len(parts) - 1 > MOST:
                raise CannotTake(f"{upload.name[:80]} holds {len(parts)} kinds, and {MOST} files may be here at most.")
            file, last = self.file(market, upload), max(one.id for one in here)
            for place, part in enumerate(parts[1:], start=1):
                other = upload._replace(id=last + place, name=f"{part}-{upload.name}")
                self.file(market, other).parent.mkdir(parents=True)
                os.link(file, self.file(market, other))
                self._write(market, other)
            first = upload._replace(name=f"{parts[0]}-{upload.name}")
            self._write(market, first)
            file.rename(self.file(market, first))
            return first

    def all(self, market: str) -> list[Upload]:
        """The files of a market, in the order in which they came."""
        folder = self._folder(market)
        numbers = sorted(int(one.name) for one in folder.iterdir() if one.name.isdigit()) if folder.is_dir() else []
        found = []
        for number in numbers:
            with suppress(NoSuchUpload):
                found.append(self.one(market, number))
        return found

    def one(self, market: str, number: int) -> Upload:
        """A file by its number. Raises NoSuchUpload."""
        try:
            about = json.loads((self._place(market, number) / _ABOUT).read_text(encoding="utf-8"))
            upload = Upload(number, about["name"], about["size"], 0, about["job"], about["loaded"])
            here = upload.size if upload.loaded else self.file(market, upload).stat().st_size
        except (OSError, ValueError, KeyError):
            raise NoSuchUpload from None
        return upload._replace(here=here)

    def say(self, market: str, number: int, **changes: Any) -> None:
        """Note the last work on a file, or that it was loaded. Raises NoSuchUpload."""
        with self._lock:
            upload = self.one(market, number)._replace(**changes)
            self._write(market, upload)
            if upload.loaded:
                self.file(market, upload).unlink(missing_ok=True)

    def put_away(self, market: str, number: int) -> None:
        """Remove a file. Raises NoSuchUpload."""
        with self._lock:
            self.one(market, number)
            shutil.rmtree(self._place(market, number), ignore_errors=True)

    def forget(self, market: str) -> None:
        """Remove all files of a market."""
        with self._lock:
            shutil.rmtree(self._folder(market), ignore_errors=True)

    def file(self, market: str, upload: Upload) -> Path:
        """Where a file lies; its name is told by what may stand in one."""
        plain = re.sub(r"[^A-Za-z0-9._-]+", "_", upload.name)[-80:].lstrip(".") or "file"
        return self._place(market, upload.id) / "data" / plain

    def refused(self, market: str, number: int) -> Path:
        """Where the rows of a file lie that were refused, if any were."""
        return self._place(market, number) / _REFUSED

    def close(self) -> None:
        """Remove what lies in no folder that was given."""
        if self._temporary is not None:
            shutil.rmtree(self._temporary, ignore_errors=True)

    def _folder(self, market: str) -> Path:
        if self._given is not None:
            return self._given / market
        with self._made:
            if self._temporary is None:
                self._temporary = Path(tempfile.mkdtemp(prefix="flinch-inbox-"))
            return self._temporary / market

    def _place(self, market: str, number: int) -> Path:
        return self._folder(market) / str(number)

    def _write(self, market: str, upload: Upload) -> None:
        about = {"name": upload.name, "size": upload.size, "job": upload.job, "loaded": upload.loaded}
        place = self._place(market, upload.id) / _ABOUT
        making = place.with_suffix(".making")
        making.write_text(json.dumps(about), encoding="utf-8")
        making.replace(place)
