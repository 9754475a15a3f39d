"""Compiled kernels on disk that may be damaged: what does not carry its own checksum is compiled anew, never run or complained of.

The compiler's cache trusts its files, and numbers them: two processes that compile one function for two kinds of argument at once
write over each other, and a third would run what was made for other arguments. Here a file is named by what it was compiled for,
carries that and a SHA-256 behind it, and an index or a kernel that is empty, cut or foreign counts as not there; a full or locked
folder costs the saving alone.
"""

from __future__ import annotations

import contextlib
import hashlib
import logging
import pickle
from typing import Any

_LOG = logging.getLogger(__name__)
#: Bytes of the checksum.
_MARK = 32


def harden() -> None:
    """Make the compiler's cache check what it reads; safe to call more than once."""
    from numba.core.caching import IndexDataCacheFile

    if getattr(IndexDataCacheFile, "hardened", False):
        return
    load_index = IndexDataCacheFile._load_index

    def index_or_none(self: Any) -> dict[Any, str]:
        try:
            return dict(load_index(self))
        except Exception:
            return {}

    def checked(self: Any, name: str) -> Any:
        with open(self._data_path(name), "rb") as file:
            whole = file.read()
        data, mark = whole[:-_MARK], whole[-_MARK:]
        if hashlib.sha256(data).digest() != mark:
            _LOG.warning("a damaged kernel is compiled again: %s", name)
            raise OSError("the kernel is damaged")  # which the cache takes for “not there”
        return pickle.loads(data)

    def mark_and_write(self: Any, name: str, data: Any) -> None:
        content = self._dump(data)
        with self._open_for_write(self._data_path(name)) as file:
            file.write(content + hashlib.sha256(content).digest())  # behind it: the compiler's own reader stops before

    def save_or_not(self: Any, key: Any, data: Any) -> None:
        name = f"{self._index_name.removesuffix('.nbi')}.{hashlib.sha256(repr(key).encode()).hexdigest()[:16]}.nbc"
        with contextlib.suppress(OSError):
            self._save_data(name, (key, data))  # before the index: who finds the name finds the file
            self._save_index({**self._load_index(), key: name})

    def load(self: Any, key: Any) -> Any:
        name = self._load_index().get(key)
        try:
            made_for, data = self._load_data(name) if name else (None, None)
        except OSError:
            return None
        return data if made_for == key else None

    IndexDataCacheFile._load_index = index_or_none
    IndexDataCacheFile._load_data = checked
    IndexDataCacheFile._save_data = mark_and_write
    IndexDataCacheFile.save = save_or_not
    IndexDataCacheFile.load = load
    IndexDataCacheFile.hardened = True
