"""Compiled functions that are kept between runs.

Numba tells the helpers that it compiles (of a sort, of a search) apart by a number that counts from one in every process. Of two
kept functions that were compiled in two processes, helpers can so have one name and different code; whichever is loaded second
then calls the first one's, and a sort becomes an argsort. Here the number begins anywhere.
"""

from __future__ import annotations

import itertools
import secrets

from numba import njit
from numba.core.bytecode import FunctionIdentity

__all__ = ["njit"]

FunctionIdentity._unique_ids = itertools.count(secrets.randbits(48) + 1)
