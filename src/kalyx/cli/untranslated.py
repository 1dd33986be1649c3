"""argparse, without the translation of its messages, which Kalyx has in one language only.

Looking for translations takes a tenth of an interpreter's start: argparse gets
functions that hand each message back, in the place of the module that looks.
"""

from __future__ import annotations

import sys
import types

__all__ = ["argparse"]


def _one(message: str) -> str:
    return message


def _one_or_many(one: str, many: str, count: int) -> str:
    return one if count == 1 else many


_known = sys.modules.get("gettext")
if "argparse" not in sys.modules and _known is None:
    _stand_in = types.ModuleType("gettext")
    _stand_in.__dict__.update(gettext=_one, ngettext=_one_or_many)
    sys.modules["gettext"] = _stand_in
    import argparse

    del sys.modules["gettext"]
else:
    import argparse
