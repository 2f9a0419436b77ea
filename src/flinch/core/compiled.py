"""Compiled functions that are kept between runs.

Numba tells the helpers that it compiles (of a sort, of a search) apart by a number that counts from one in every process. Of two
kept functions that were compiled in two processes, helpers can so have one name and different code; whichever is loaded second
then calls the first one's, and a sort becomes an argsort. Here the number begins anywhere.

It takes a kept function for fresh when its own file is as it was, though what it calls is compiled into it. Here the files of all
that it may call count as well.
"""

from __future__ import annotations

import hashlib
import itertools
import re
import secrets
from functools import cache
from pathlib import Path
from typing import Any

from numba import njit
from numba.core import caching
from numba.core.bytecode import FunctionIdentity

__all__ = ["njit", "source_stamp"]

_IMPORT = re.compile(r"^(?:from|import) (flinch[\w.]*)", re.MULTILINE)
_ROOT = Path(__file__).parents[2]

FunctionIdentity._unique_ids = itertools.count(secrets.randbits(48) + 1)


@cache
def source_stamp(path: Path, root: Path = _ROOT) -> str:
    """Changes with a file and with every file of compiled functions below `root` that it imports, itself or by way of others."""
    seen: dict[Path, str] = {}
    ahead = [path]
    while ahead:
        file = ahead.pop()
        if file in seen or not file.is_file():
            continue
        seen[file] = file.read_text(encoding="utf-8")
        for module in _IMPORT.findall(seen[file]):
            place = root.joinpath(*module.split("."))
            ahead += [place.with_suffix(".py"), place / "__init__.py"]
    total = hashlib.sha256()
    for file, text in sorted(seen.items()):
        if file == path or "njit" in text:
            total.update(text.encode() + b"\0")
    return total.hexdigest()


def _stamp(self: Any) -> str:
    return source_stamp(Path(self._py_file))


caching._SourceFileBackedLocatorMixin.get_source_stamp = _stamp  # type: ignore[method-assign]
