"""Messages of the kernel messaging protocol 5.3: put together, signed, taken apart."""

from __future__ import annotations

import hashlib
import hmac
import json
import uuid
from dataclasses import dataclass, field
from datetime import datetime, timezone
from typing import Any

__all__ = ["MESSAGE_LIMIT", "BadMessage", "Session", "receive"]

DELIMITER = b"<IDS|MSG>"
VERSION = "5.3"
MESSAGE_LIMIT = 16 * 1024 * 1024  # bytes


class BadMessage(Exception):
    """A message that is not whole, or whose signature is wrong."""


@dataclass
class Session:
    """Signs what goes out and checks what comes in, with one connection's key."""

    key: bytes
    session: str = field(default_factory=lambda: uuid.uuid4().hex)

    def sign(self, parts: list[bytes]) -> bytes:
        """Return the HMAC-SHA256 of the four parts, in hex; empty without a key."""
        if not self.key:
            return b""
        digest = hmac.new(self.key, digestmod=hashlib.sha256)
        for part in parts:
            digest.update(part)
        return digest.hexdigest().encode("ascii")

    def pack(self, kind: str, content: dict[str, Any]) -> tuple[str, list[bytes]]:
        """Return a new message's id and its frames."""
        identity = uuid.uuid4().hex
        header = {"msg_id": identity, "msg_type": kind, "session": self.session,
                  "username": "kalyx", "date": datetime.now(timezone.utc).isoformat(),
                  "version": VERSION}
        parts = [json.dumps(p).encode("utf-8") for p in (header, {}, {}, content)]
        return identity, [DELIMITER, self.sign(parts), *parts]

    def unpack(self, frames: list[bytes]) -> dict[str, Any]:
        """Return header, parent_header and content of received frames.

        Raises:
            BadMessage: it is not whole, not JSON, or not signed with our key.
        """
        try:
            start = frames.index(DELIMITER)
            signature, parts = frames[start + 1], frames[start + 2:start + 6]
            if len(parts) < 4:
                raise BadMessage("a message with parts missing")
        except (ValueError, IndexError):
            raise BadMessage("a message without the protocol's delimiter") from None
        if self.key and not hmac.compare_digest(self.sign(parts), signature):
            raise BadMessage("a message with a wrong signature")
        try:
            header, parent, _, content = (json.loads(p) for p in parts)
        except (ValueError, RecursionError):
            raise BadMessage("a message that is not JSON") from None
        if not all(isinstance(p, dict) for p in (header, parent, content)):
            raise BadMessage("a message whose parts are no JSON objects")
        return {"header": header, "parent_header": parent, "content": content}


def receive(session: Session, link: Any) -> dict[str, Any]:
    """Take the message that waits at a socket.

    Raises:
        BadMessage: it is larger than any answer to us, or not to be trusted.
    """
    frames = link.recv_multipart()
    if sum(map(len, frames)) > MESSAGE_LIMIT:
        raise BadMessage("a message of many megabytes")
    return session.unpack(frames)
