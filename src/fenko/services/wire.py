"""How a running desk and its services talk: frames over a socket pair, each a length of four bytes and a pickle.

The two ends are the same program of the same user, started one from the other; nobody else holds the socket.
"""

from __future__ import annotations

import pickle
import struct
from collections.abc import Iterator
from typing import Any

_LENGTH = struct.Struct("!I")
MOST = 1 << 26
"""Bytes; no frame is longer."""


def packed(what: Any) -> bytes:
    """A frame. Raises ValueError if it is too long."""
    body = pickle.dumps(what, protocol=pickle.HIGHEST_PROTOCOL)
    if len(body) > MOST:
        raise ValueError(f"a frame of {len(body)} bytes")
    return _LENGTH.pack(len(body)) + body


class Frames:
    """Puts together what comes in pieces. Frames are taken apart one by one, when they are asked for."""

    def __init__(self) -> None:
        self._data = bytearray()

    def add(self, data: bytes) -> None:
        """More has come."""
        self._data += data

    @property
    def complete(self) -> bool:
        """Whether a whole frame is there. Raises ValueError for one that is too long."""
        if len(self._data) < _LENGTH.size:
            return False
        length: int = _LENGTH.unpack_from(self._data)[0]
        if length > MOST:
            raise ValueError(f"a frame of {length} bytes")
        return len(self._data) >= _LENGTH.size + length

    def next(self) -> Any:
        """The first frame, which has to be complete."""
        (length,) = _LENGTH.unpack_from(self._data)
        end = _LENGTH.size + length
        body = bytes(self._data[_LENGTH.size : end])
        del self._data[:end]
        return pickle.loads(body)

    def __iter__(self) -> Iterator[Any]:
        """Every frame that is complete."""
        while self.complete:
            yield self.next()
