"""Kalyx: which Python is really used here, and why an import fails in it.

`here`, `why`, `envs`, `packages`, `kernels`, `fit` and `contrast` answer as the commands of their names do, with
frozen records; what can be wrong is a `KalyxError`. They are loaded when they are first used.
"""

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.api import contrast, envs, fit, here, kernels, packages, why
    from kalyx.core.errors import AmbiguousName, KalyxError, NothingToJudge, Unreadable, WrongUsage

__all__ = ["AmbiguousName", "KalyxError", "NothingToJudge", "Unreadable", "WrongUsage", "__version__", "contrast",
           "envs", "fit", "here", "kernels", "packages", "why"]

__version__ = "0.2.0"


def __getattr__(name: str) -> object:
    """Return what is public and not loaded yet (PEP 562)."""
    if name in ("load_ipython_extension", "unload_ipython_extension"):  # what %load_ext looks for
        from kalyx.notebook import extension

        return getattr(extension, name)
    if name not in __all__:
        raise AttributeError(f"module 'kalyx' has no attribute {name!r}")
    from kalyx import api
    from kalyx.core import errors

    return getattr(errors if name[0].isupper() else api, name)


def __dir__() -> list[str]:
    return [*globals(), *__all__]
