"""What a person types into their own shell, in its words: no command of ours can change it."""

from __future__ import annotations

from kalyx.core.machine import Machine
from kalyx.core.model import Environment

__all__ = ["activation", "setting"]


def setting(machine: Machine, name: str, value: str) -> str:
    """Return the line that sets a variable, or that takes it away where the value is empty."""
    shell = _shell(machine)
    if shell == "powershell":
        return f"$env:{name} = {_quoted(shell, value)}" if value else f"Remove-Item Env:{name}"
    if shell == "cmd":
        return f'set "{name}={value}"' if value else f"set {name}="
    if shell == "fish":
        return f"set -gx {name} {_quoted(shell, value)}" if value else f"set -e {name}"
    if shell == "csh":
        return f"setenv {name} {_quoted(shell, value)}" if value else f"unsetenv {name}"
    return f"export {name}={_quoted(shell, value)}" if value else f"unset {name}"


def activation(machine: Machine, environment: Environment) -> str | None:
    """Return the line that makes the shell use an environment; None where it has no script for that."""
    m, shell = machine, _shell(machine)
    if environment.kind == "conda":
        return f"conda activate {_quoted(shell, environment.path)}"
    folder = "Scripts" if m.platform == "win32" else "bin"
    name = {"powershell": "Activate.ps1", "cmd": "activate.bat", "fish": "activate.fish",
            "csh": "activate.csh"}.get(shell, "activate")
    script = str(m.path.join(environment.path, folder, name))
    if not m.is_file(script):
        return None
    command = {"powershell": "& ", "cmd": "", "fish": "source ", "csh": "source "}.get(shell, ". ")
    return command + _quoted(shell, script)


def _shell(machine: Machine) -> str:
    """Return which kind of shell Kalyx was started from."""
    if machine.platform == "win32":  # both set PSModulePath; only the older one has a PROMPT
        return "powershell" if "PSModulePath" in machine.env and "PROMPT" not in machine.env else "cmd"
    name = str(machine.path.basename(machine.env.get("SHELL") or "sh"))
    return {"tcsh": "csh"}.get(name, name)


def _quoted(shell: str, text: str) -> str:
    if shell == "powershell":
        return "'" + text.replace("'", "''") + "'"
    if shell == "cmd":
        return f'"{text}"' if set(text) & set(" &()^;,=") else text
    import shlex

    return shlex.quote(text)
