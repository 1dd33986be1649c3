"""How a new shell is started in an environment: what it is given, and what it does after its own start-up files."""

from __future__ import annotations

from kalyx.core.entering.shells import family_of, plain_name
from kalyx.core.lean.record import field, record
from kalyx.core.quoting import join_words

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from kalyx.core.entering.shells import Shell

__all__ = ["NewShell", "new_shell"]


@record
class NewShell:
    """What is started: program and arguments, more variables, and files of a folder of our own, text by name."""

    argv: tuple[str, ...]
    env: Mapping[str, str] = field(default_factory=dict)
    files: Mapping[str, str] = field(default_factory=dict)


def new_shell(program: str, folder: str, bin_folder: str, label: str, check: Sequence[str],
              env: Mapping[str, str], own_files: Sequence[str] = ()) -> NewShell:
    """Return how a shell is started so that an environment's programs come first once its start-up files were read.

    `folder` is where the files will lie, `check` the command that is told where the new shell finds ``python``,
    `own_files` are the start-up files that are there.
    """
    shell, name = family_of(program), plain_name(program)
    if shell is None:
        return NewShell((program,))
    if shell.name == "cmd":
        return _cmd(program, folder, bin_folder, check)
    after = _after(shell, bin_folder, label, check)
    if name == "bash":
        text = f"[ -r ~/.bashrc ] && . ~/.bashrc\n{after}\n"
        return NewShell((program, "--rcfile", f"{folder}/bashrc", "-i"), files={"bashrc": text})
    if name == "zsh":
        return _zsh(program, folder, after, env)
    if name == "fish":
        return NewShell((program, "-i", "-C", after))
    if name == "xonsh":
        return NewShell((program, "-i", "--rc", *own_files, f"{folder}/rc.xsh"), files={"rc.xsh": after + "\n"})
    if shell.name == "nu":
        return NewShell((program, "-e", after))
    if shell.name == "powershell":
        return NewShell((program, "-NoExit", "-Command", after))
    if shell.name in ("sh", "bash"):  # it reads what ENV names, when somebody types into it
        own = f"[ -r {shell.quote(env['ENV'])} ] && . {shell.quote(env['ENV'])}\n" if env.get("ENV") else ""
        return NewShell((program, "-i"), {"ENV": f"{folder}/shrc"}, {"shrc": f"{own}{after}\n"})
    return _csh(program, folder, shell.quote(env.get("HOME", "")), after)


def _zsh(program: str, folder: str, after: str, env: Mapping[str, str]) -> NewShell:
    """Return the start of a zsh: it reads its files from the folder that ZDOTDIR names."""
    own = env.get("ZDOTDIR") or "$HOME"
    leave = f'export ZDOTDIR="{own}"' if env.get("ZDOTDIR") else "unset ZDOTDIR"
    first = f'[ -r "{own}/.zshenv" ] && . "{own}/.zshenv"\nexport ZDOTDIR={_single(folder)}\n'
    last = f'{leave}\n[ -r "{own}/.zshrc" ] && . "{own}/.zshrc"\n{after}\n'
    return NewShell((program, "-i"), {"ZDOTDIR": folder}, {".zshenv": first, ".zshrc": last})


def _csh(program: str, folder: str, home: str, after: str) -> NewShell:
    """Return the start of a csh: it reads its file from the folder that HOME names, which that file sets right."""
    text = (f"setenv HOME {home}\nset home={home}\nif ($?tcsh && -r ~/.tcshrc) then\n  source ~/.tcshrc\n"
            f"else if (-r ~/.cshrc) then\n  source ~/.cshrc\nendif\n{after}\n")
    return NewShell((program, "-i"), {"HOME": folder}, {".tcshrc": text, ".cshrc": text})


def _single(word: str) -> str:
    return "'" + word.replace("'", "'\\''") + "'"


def _after(shell: Shell, bin_folder: str, label: str, check: Sequence[str]) -> str:
    """Return what a new shell does last: it says where it finds python, and puts the environment first again."""
    line, place, shown = join_words(check, shell.name), shell.quote(bin_folder), shell.quote(f"({label}) ")
    if shell.name in ("sh", "bash"):
        line = " ".join(map(_single, check))
        return (f'KALYX_FOUND=$(command -v python); {line} "$KALYX_FOUND"; unset KALYX_FOUND; '
                f'unalias python pip 2>/dev/null; case ":$PATH:" in ":"{place}":"*) ;; *) PATH={place}:$PATH;; esac; '
                f'hash -r; PS1={shown}"${{PS1-}}"')
    if shell.name == "fish":
        return (f"{line} (command -s python; or echo nowhere); functions -e python pip; "
                f"test \"$PATH[1]\" = {place}; or set -gx PATH {place} $PATH; "
                f"functions -c fish_prompt kalyx_prompt; function fish_prompt; printf '%s' {shown}; kalyx_prompt; end")
    if shell.name == "csh":
        return (f'set kalyx_found="`which python`"\n{line} $kalyx_found:q\nunset kalyx_found\nunalias python pip\n'
                f'if (":${{PATH}}:" !~ ":"{place}":*") setenv PATH {place}:"${{PATH}}"\nrehash\n'
                f'if ($?prompt) set prompt={shown}"$prompt"')
    if shell.name == "xonsh":
        words = ", ".join(map(repr, check))
        return ("import shutil as _s, subprocess as _r\n"
                f"_r.run([{words}, str(_s.which('python', path=':'.join($PATH)))])\n"
                f"for _n in ('python', 'pip'):\n    aliases.pop(_n, None)\n"
                f"if $PATH[0] != {bin_folder!r}:\n    $PATH.insert(0, {bin_folder!r})\ndel _s, _r, _n")
    if shell.name == "nu":
        return (f"^{line} (which python | get -o 0.path | default nowhere); "
                f"$env.PATH = ($env.PATH | split row (char esep) | prepend {place} | uniq)")
    if shell.name == "powershell":  # a quoted program is called by the sign that `join_words` puts before it
        return (f"& {line.removeprefix('& ')} (Get-Command python -ErrorAction SilentlyContinue).Source; "
                f"$env:PATH = {place} + [IO.Path]::PathSeparator + $env:PATH")
    raise ValueError(f"{shell.name} is started in a way of its own")


def _cmd(program: str, folder: str, bin_folder: str, check: Sequence[str]) -> NewShell:
    """Return the start of a cmd: it runs a file, which takes what has other letters than ASCII from variables."""
    text = ("@for /f \"delims=\" %%i in ('%SystemRoot%\\System32\\where.exe python 2^>nul') do "  # not the folder's own
            '@if not defined KALYX_FOUND set "KALYX_FOUND=%%i"\r\n'
            '@call %KALYX_CHECK% "%KALYX_FOUND%"\r\n'
            '@set "PATH=%KALYX_FIRST%;%PATH%"\r\n'
            '@set "KALYX_FOUND=" & set "KALYX_CHECK=" & set "KALYX_FIRST="\r\n')
    env = {"KALYX_CHECK": join_words(check, "cmd"), "KALYX_FIRST": bin_folder}
    return NewShell((program, "/k", f"{folder}\\start.bat"), env, {"start.bat": text})
