"""What a shell's text starts, held against the shells themselves: program, arguments, folder, variables."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

from kalyx.core.facts.interpreters.command_words import follow_script, program_at
from kalyx.core.machine.local import RealMachine
from tests.support.build import run, write

NAMES = ("A", "B", "PYTHONPATH", "VIRTUAL_ENV", "CONDA_PREFIX")
TELLS = "#!/bin/bash\nprintf '%s\\0' @@ \"$0\" \"$PWD\" " + " ".join(f'"${{{n}-unset}}"' for n in NAMES) + ' "$@"\n'
ACTIVATE = "deactivate () {\n  :\n}\nVIRTUAL_ENV='ROOT/my env'\nexport VIRTUAL_ENV\nPATH=\"$VIRTUAL_ENV/bin:$PATH\"\n"
ONLY_BASH = ("pipefail", "source ", "declare", "+=", "$'", "[[", "BASH", "function ", "exec -a")
# ROOT is a folder with one/python, two/python, an environment, and those of conda below `conda`; the first is on PATH,
# A is "a b", and the words are one, "t w o" and ""
TEXTS = {
    "words": 'exec python \'it\'\'s\' "a\\"b" c\\ d $\'e\' "" \'\' x"y"z \\\n  last',
    "variables": 'B=$A; exec python $A "$A" ${A} "${B}" $NOT "$NOT" ${NOT}x "$0" $1 "$2" ${3}',
    "defaults":
        'e'
        'xec python "${NOT:-d e}" ${NOT:-d e} ${A:-no} ${NOT-x} ${A+yes} "${NOT+no}" ${NOT:=set} $NOT ${1+"$@"}',
    "parts": 'P=/x/y/z; exec python ${P%/*} "${P##*/}" ${NOT##*/} "$(basename "$P")" `dirname $P` "$(dirname z)"',
    "all arguments": 'exec python "$@" $@ "$*" -- ${4+"$@"} ${4-none}',
    "set": 'set -euo pipefail; set -- -s "$@" end; exec python "$@"',
    "set, words": 'set -f one two; exec python $2 $1',
    "shift": 'shift; exec python "$@"',
    "shift, more": 'shift 2\nexec python "$@"',
    "shift, too far": 'shift 9\nexec python',
    "own place": 'here="$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)"\nexec "$here/two/python"',
    "real place": 'exec "$(dirname "$(readlink -f "$0")")/two/python" "$(realpath .)" "$(cd -P . && pwd -P)"',
    "what is found": 'exec "$(command -v python)" `which python` $(echo a  b)',
    "what is not": 'exec "$(command -v nosuch)"',
    "tilde": "B=~/b; export B; exec python ~ ~/x a~ '~'",
    "comments": '# exec nothing\nexec python a#b #c\n',
    "export": "export A=x B='y z'\nexport PATH\nexec python",
    "not exported": 'B=x\nexec python',
    "unset": 'unset A\nexec python',
    "before the command": 'A=x B=$A exec python',
    "added": 'A+=more; export A\nexec python',
    "all exported": 'set -a; B=1; exec python',
    "declared": 'declare -x B=1; declare PYTHONPATH=2; typeset -x PYTHONPATH; exec python',
    "PATH": 'PATH="ROOT/two:$PATH"\nexec python',
    "env": 'exec env -u A B=1 nice -n 1 python x',
    "folder": 'cd two && exec python',
    "folder, gone": 'cd nowhere || cd two\nexec python',
    "home": 'cd; exec python',
    "not exec": 'mkdir -p two >/dev/null 2>&1; echo x >&2\npython x',
    "two programs": 'ls -la; python x; exit $?',
    "if":
        'if [ -d nowhere ]; then exec nowhere; elif [ -x two/python ]\nthen B=1\n'
        'else exec python no; fi; exec python $B',
    "if, in if": 'if true; then if false; then :; else B=in; fi; fi\nexec python $B',
    "if, not": 'if ! [ -e x ]; then exec python; fi',
    "if, and": '[ -n "$A" ] && [ -z "$NOT" ] && B=1\n[ "$A" = "a b" ] || B=2\n[ "$A" != x ] && exec python "$B"',
    "test": 'test -f two/python -a x || B=1; test x && test ! -d two/python && exec python',
    "[[": '[[ -d two ]] && exec python',
    "command -v": 'command -v nosuch >/dev/null || B=1\nif type python >/dev/null 2>&1; then exec python $B; fi',
    "group": '[ -d two ] || { echo no; exit 3; }\n{ B=1; }\nfalse || { B=2; echo; }\nexec python $B',
    "case": 'case "$A" in x|y) exit 1;; a\\ b) B=1;; *) B=2;; esac\ncase $B in 2) :;; ?) exec python "$B";; esac',
    "case, of the system": 'case "$(uname -s)" in L*) B=l ;;\n  *) B=o\nesac\nexec python $B',
    "case, not known": 'case "$(date)" in x) exit 1;; *) echo x;; esac\nexec python',
    "functions": 'say() { echo "$@"; }\nfunction die { say no\n exit 3; }\nsay hi\ntrue || die\nexec python',
    "function that ends": 'die() { exit 3; }\ndie\nexec python',
    "in a loop": 'for x in a b; do echo $x; done; exec python',
    "function that starts": 'go() { exec python; }\ngo',
    "beside": 'sleep 0 & exec python',
    "brackets": '(exec python)',
    "choice of a program": 'if [ "$RANDOM" = x ]; then exec ROOT/two/python; fi; exec python',
    "here text": 'cat <<X\nX\nexec python',
    "read in": '. ./settings; exec python',
    "read in, gone": 'source ./nowhere 2>/dev/null || B=1\nexec python $B',
    "read in, more": '. ./more; exec ROOT/two/python',
    "what is worked out": 'export PYTHONPATH=$(date +%s)\nexec python',
    "entered": '. "ROOT/my env/bin/activate"; exec python',
    "entered, by name": 'source activate trial; exec python',
    "conda": 'source conda/etc/profile.d/conda.sh\nconda activate trial\nexec python',
    "conda, not there": 'source conda/etc/profile.d/conda.sh; conda activate nosuch; exec python',
    "cluster": 'module load x 2>/dev/null\nexec ROOT/two/python',
    "eval": "eval 'B=1; export B'; exec python",
    "eval, worked out": 'eval "$(date +B=%s)"; exec python',
    "name told": 'exec -a other python',
    "nothing": 'echo hi',
    "quote": "exec python 'x",
    "brace": 'exec python "${A"',
    "ends": 'true\nexit 0\nexec python',
    "text that goes on": 'exec python one | cat',
    "star": 'exec python n*o',
    "arithmetic": 'C=$((1+1)); [ $# = 3 ] && echo $?; exec python',
}


def world(root: Path) -> None:
    """Lay out the programs and environments that the texts name."""
    for place in ("one", "two", "my env/bin", "conda/bin", "conda/envs/trial/bin"):
        write(root / place / "python", TELLS, 0o755)
    for place in ("conda", "conda/envs/trial"):
        (root / place / "conda-meta").mkdir()
    write(root / "my env" / "bin" / "activate", ACTIVATE.replace("ROOT", str(root)))
    entering = f'conda() {{ [ -d "{root}/conda/envs/$2" ] && CONDA_PREFIX="{root}/conda/envs/$2" ' \
               '&& PATH="$CONDA_PREFIX/bin:$PATH" && export CONDA_PREFIX; }\n'
    write(root / "conda" / "etc" / "profile.d" / "conda.sh", entering)
    write(root / "conda" / "bin" / "activate", entering + 'conda activate "$1"\n')
    write(root / "settings", "A=given\nexport PYTHONPATH=/given\n")
    write(root / "more", "for x in a; do :; done\n")


@pytest.mark.parametrize("shell", [s for s in ("bash", "dash") if shutil.which(s)])
def test_texts(shell: str, tmp_path: Path) -> None:
    """What is read is what the shell starts; else it is said that it cannot be told, or that nothing is started."""
    machine, told, args = RealMachine(), 0, ("one", "t w o", "")
    world(tmp_path)
    env = {"HOME": str(tmp_path / "two"), "A": "a b", "PATH": f"{tmp_path}/one:{tmp_path}/conda/bin:/usr/bin:/bin"}
    for name, text in TEXTS.items():
        if shell == "dash" and any(word in text for word in ONLY_BASH):
            continue
        script = write(tmp_path / "run", f"#!/bin/{shell}\n{text.replace('ROOT', str(tmp_path))}\n", 0o755)
        started = follow_script(machine, str(script), args, env, str(tmp_path))
        assert started is not None
        said = run([script, *args], env=env, cwd=tmp_path).stdout.partition("@@\0")[2].split("\0")[:-1]
        if started.trouble:
            assert started.words or not said, name
            continue
        told += 1
        assert ("module load x" in started.unread) == (name == "cluster")
        assert [program_at(machine, started), started.folder, *(started.env.get(n, "unset") for n in NAMES),
                *started.words[1:]] == [os.path.join(tmp_path, said[0]) if said else None, *said[1:]], name
    assert told > len(TEXTS) // 2
