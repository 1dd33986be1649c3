"""What a person types into their own shell, in its words: no command of ours can change it."""

from __future__ import annotations

from kalyx.core.quoting import join_words, name_of_shell, quote_word

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.files import Files
    from kalyx.core.model import Environment

__all__ = ["activation", "command_line", "setting", "shell_of"]


def command_line(files: Files, argv: Sequence[str]) -> str:
    """Return a command as it is typed into the shell in use."""
    return join_words(argv, shell_of(files))


def setting(files: Files, name: str, value: str) -> str:
    """Return the line that sets a variable, or that takes it away where the value is empty."""
    shell = shell_of(files)
    if shell == "powershell":
        return f"$env:{name} = {quote_word(value, shell, always=True)}" if value else f"Remove-Item Env:{name}"
    if shell == "cmd":
        return f'set "{name}={value}"' if value else f"set {name}="
    if shell == "fish":
        return f"set -gx {name} {quote_word(value, shell)}" if value else f"set -e {name}"
    if shell == "csh":
        return f"setenv {name} {quote_word(value, shell)}" if value else f"unsetenv {name}"
    return f"export {name}={quote_word(value, shell)}" if value else f"unset {name}"


def activation(files: Files, environment: Environment) -> str | None:
    """Return the line that makes the shell use an environment; None where it has no script for that."""
    m, shell = files, shell_of(files)
    if environment.kind == "conda":
        return f"conda activate {quote_word(environment.path, shell)}"
    folder = "Scripts" if m.platform == "win32" else "bin"
    name = {"powershell": "Activate.ps1", "cmd": "activate.bat", "fish": "activate.fish",
            "csh": "activate.csh"}.get(shell, "activate")
    script = str(m.path.join(environment.path, folder, name))
    if not m.is_file(script):
        return None
    command = {"powershell": "& ", "cmd": "", "fish": "source ", "csh": "source "}.get(shell, ". ")
    return command + quote_word(script, shell, always=shell == "powershell")


def shell_of(files: Files) -> str:
    """Return which kind of shell Kalyx was started from."""
    return name_of_shell(files.platform, files.env)
