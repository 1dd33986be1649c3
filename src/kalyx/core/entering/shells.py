"""The shells as data: how each sets a variable, sources a file, and shows where one is."""

from __future__ import annotations

from kalyx.core.lean.record import record, replace
from kalyx.core.quoting import quote_word

__all__ = ["SHELLS", "Shell", "family_of", "plain_name"]


@record
class Shell:
    """A family of shells. Names in braces are filled in, quoted already.

    ``script`` is the name of an environment's activation script for it, empty where it has none that can be used;
    ``source`` reads one, ``deactivate`` calls what it has defined, where that is there. ``keep`` notes the
    prompt, ``show`` puts the environment's name before it, ``hide`` brings back what was noted: `n` is how many
    environments were entered before.
    """

    name: str
    assign: str
    remove: str
    script: str = ""
    source: str = ""
    deactivate: str = ""
    keep: str = ""
    show: str = ""
    hide: str = ""
    refresh: str = ""
    between: str = "; "
    taken: str = ""  # how it takes what a command prints

    def quote(self, word: str) -> str:
        """Return a word in quotes, whatever is in it."""
        if self.name in ("sh", "bash"):  # as the oldest of them takes it, too
            return "'" + word.replace("'", "'\\''") + "'"
        return quote_word(word, self.name, always=self.name in ("powershell", "cmd"))

    def set(self, name: str, value: str | None) -> str:
        """Return the command that sets a variable, or takes it away."""
        if value is None:
            return self.remove.format(name=name)
        if self.name == "cmd":
            return self.assign.format(name=name, value=value)
        return self.assign.format(name=name, value=self.quote(value))


# an environment's own script has PS1 exported, which the oldest of these cannot take back
_SH = Shell(
    "sh", "export {name}={value}", "unset {name}", keep='KALYX_PS1_{n}=${{PS1+x}}${{PS1-}}',
    show='if [ -n "${{PS1+x}}" ]; then PS1={label}$PS1; fi',
    hide='case "${{KALYX_PS1_{n}-none}}" in none) ;; x*) PS1=${{KALYX_PS1_{n}#x}};; *) unset PS1;; esac; '
         "unset KALYX_PS1_{n}", refresh="hash -r",
    taken='eval "$({command})"')
SHELLS: dict[str, Shell] = {
    "sh": _SH,
    "bash": replace(
        _SH, name="bash", script="activate", source=". {path}",
        deactivate='case "$(type deactivate 2>/dev/null)" in *function*) deactivate;; esac; typeset +x PS1'),
    "fish": Shell(
        "fish", "set -gx {name} {value}", "set -e {name}", "activate.fish", "source {path}",
        "if functions -q deactivate; deactivate; end", "",
        "functions -c fish_prompt kalyx_prompt_{n}; function fish_prompt; printf '%s' {label}; kalyx_prompt_{n}; end",
        "if functions -q kalyx_prompt_{n}; functions -e fish_prompt; functions -c kalyx_prompt_{n} fish_prompt; "
        "functions -e kalyx_prompt_{n}; end", taken="{command} | source"),
    # its own script reads $prompt, which a shell that nobody types into has not
    "csh": Shell("csh", "setenv {name} {value}", "unsetenv {name}", refresh="rehash", taken='eval "`{command}`"'),
    "powershell": Shell(
        "powershell", "$env:{name} = {value}", "Remove-Item Env:{name} -ErrorAction SilentlyContinue", "Activate.ps1",
        "& {path}", "if (Test-Path Function:deactivate) {{ deactivate }}",
        taken="{command} | Out-String | Invoke-Expression"),
    "cmd": Shell("cmd", 'set "{name}={value}"', 'set "{name}="', "activate.bat", "call {path}",
                 "", between=" & "),
    "nu": Shell("nu", "$env.{name} = {value}", "hide-env -i {name}"),
    "xonsh": Shell("xonsh", "${{...}}[{name!r}] = {value}", "${{...}}.pop({name!r}, None)",
                   taken="execx($({command}))"),
}
_FAMILIES = {"zsh": "bash", "ksh": "bash", "mksh": "bash", "dash": "sh", "ash": "sh", "busybox": "sh",
             "tcsh": "csh", "pwsh": "powershell", "nushell": "nu"}


def family_of(name: str) -> Shell | None:
    """Return the shell that a name or the path of a program means; None where it is not known."""
    word = plain_name(name)
    return SHELLS.get(_FAMILIES.get(word, word))


def plain_name(name: str) -> str:
    """Return the name of a shell, of what may be the path of its program."""
    return name.replace("\\", "/").rsplit("/", 1)[-1].lower().removesuffix(".exe").lstrip("-")
