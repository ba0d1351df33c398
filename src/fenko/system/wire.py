"""Messages between two Fenko processes: msgspec structs of a tagged union, encoded as MessagePack with a length prefix.

The receiver decodes each message against its union. A message that is too long or does not fit ends the connection."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import Any

from msgspec import DecodeError, Struct
from msgspec.msgpack import Decoder, Encoder

VERSION = 1
"""Version of all messages together; raise it when any of them changes. An update can replace Fenko's files while a desk runs, and
a child that starts then speaks the new version."""
LONGEST_MESSAGE = 1 << 24
"""Bytes."""
_LENGTH = struct.Struct("!I")
_ENCODER = Encoder()


class Message(Struct, frozen=True, tag=True, array_like=True):
    """Base of all messages."""


class Failed(Message, frozen=True):
    """Last message of a child that ends because of an unexpected error: the error and its place."""

    reason: str


def pack(message: Message) -> bytes:
    """Return the bytes of a message. Raises ValueError if it is too long, TypeError or OverflowError if MessagePack cannot encode it."""
    body = _ENCODER.encode(message)
    if len(body) > LONGEST_MESSAGE:
        raise ValueError(f"a message of {len(body)} bytes")
    return _LENGTH.pack(len(body)) + body


class MessageReader:
    """Assembles messages from received bytes. `messages` is the accepted type: one message class or a union."""

    def __init__(self, messages: Any) -> None:
        self._decoder: Decoder[Any] = Decoder(messages)
        self._data = bytearray()

    def add(self, data: bytes) -> None:
        """Append received bytes."""
        self._data += data

    @property
    def complete(self) -> bool:
        """Whether a whole message has arrived. Raises ValueError if it is too long."""
        if len(self._data) < _LENGTH.size:
            return False
        length: int = _LENGTH.unpack_from(self._data)[0]
        if length > LONGEST_MESSAGE:
            raise ValueError(f"a message of {length} bytes")
        return len(self._data) >= _LENGTH.size + length

    def next(self) -> Any:
        """Remove and return the first message, which must be complete. Raises ValueError if it does not fit the accepted type."""
        end = _LENGTH.size + _LENGTH.unpack_from(self._data)[0]
        with memoryview(self._data) as data, data[_LENGTH.size : end] as body:
            try:
                message = self._decoder.decode(body)
            except DecodeError as why:
                raise ValueError(str(why)) from None
        del self._data[:end]
        return message

    def __iter__(self) -> Iterator[Any]:
        """Remove and yield each complete message. Raises ValueError."""
        while self.complete:
            yield self.next()
