"""What the who probe answered, or how it failed."""

from __future__ import annotations

from kalyx.core.model import python_version

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from kalyx.core.machine.results import RunResult

__all__ = ["explain_failure", "parse_answer"]


def parse_answer(text: str) -> dict[str, Any] | None:
    """Read what the who probe printed, among whatever else was printed."""
    import json

    for line in reversed(text.splitlines()):
        if line.startswith('{"kalyx"'):
            try:
                answer = json.loads(line)
            except ValueError:
                continue
            if _is_answer(answer):
                return answer  # type: ignore[no-any-return]
    return None


def _is_answer(answer: object) -> bool:
    """Whether it is what the who probe prints: all its keys, with texts, and a version that is one."""
    if not isinstance(answer, dict) or not isinstance(answer.get("path"), list):
        return False
    texts = [answer.get(k) for k in ("executable", "version", "implementation", "prefix", "base_prefix")]
    texts += answer["path"]
    return all(isinstance(t, str) for t in texts) and bool(answer["executable"]) \
        and python_version(answer["version"]) is not None


def explain_failure(result: RunResult, limit: float) -> str:
    """Say in a few words why an interpreter did not answer."""
    if result.timed_out:
        return f"it did not answer within {limit:g} s"
    if result.status is None:
        return f"it could not be started: {result.why_not}"
    complaint = result.complaint().rstrip(".")
    if result.status < 0:
        return f"it died of signal {-result.status}"
    return f"it ended with status {result.status}" + (f": {complaint}" if complaint else
                                                      " without an answer")
