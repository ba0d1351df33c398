"""Plain data between two processes of one person: packets of MessagePack with their length before them.

What comes in is data and nothing else, whoever sends it; a packet that is too long, or none, ends the talk."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import Any

from msgspec import DecodeError
from msgspec.msgpack import Decoder, Encoder

_LENGTH = struct.Struct("!I")
MOST = 1 << 24
"""Bytes; no packet is longer."""
_ENCODER = Encoder()
_DECODER = Decoder()


def packed(what: Any) -> bytes:
    """A packet. Raises ValueError if it is too long."""
    body = _ENCODER.encode(what)
    if len(body) > MOST:
        raise ValueError(f"a packet of {len(body)} bytes")
    return _LENGTH.pack(len(body)) + body


class Packets:
    """Puts together what comes in pieces."""

    def __init__(self) -> None:
        self._data = bytearray()

    def of(self, data: bytes) -> Iterator[Any]:
        """Every packet that is whole with this. Raises ValueError for one that is none."""
        self._data += data
        at = 0
        try:
            while len(self._data) - at >= _LENGTH.size:
                length: int = _LENGTH.unpack_from(self._data, at)[0]
                if length > MOST:
                    raise ValueError(f"a packet of {length} bytes")
                end = at + _LENGTH.size + length
                if len(self._data) < end:
                    return
                body = bytes(self._data[at + _LENGTH.size : end])
                at = end
                try:
                    yield _DECODER.decode(body)
                except DecodeError as why:
                    raise ValueError(str(why)) from None
        finally:
            del self._data[:at]
