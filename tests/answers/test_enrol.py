"""``enrol``: real kernels, registered for real, started and asked over the protocol."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

import pytest

from kalyx.core.wire.client import KernelFailed, StartedKernel
from kalyx.demo import distributions
from tests.support.build import World, kernelspec, make_venv, python_of, run, site_of, write


def with_real_kernel(world: World, name: str = "lab") -> Path:
    """Make an environment that sees the ipykernel of the environment that runs the tests."""
    env = world.venv(name)
    own = next(p for p in map(Path, sys.path) if (p / "ipykernel").is_dir())
    write(site_of(env) / "real.pth", f"{own}\n")
    return env


def spec_of(world: World, name: str) -> Path:
    """Return where the user's kernel of that name is registered."""
    return world.home / ".local" / "share" / "jupyter" / "kernels" / name / "kernel.json"


def test_registered_and_proven(world: World, validate) -> None:
    """The kernel is the environment's own, and a real server's own list shows it."""
    env = with_real_kernel(world)
    document = world.answer("enrol", "lab")
    validate(document)
    assert document["exit"] == 0, document
    result = document["result"]
    said = run([python_of(env), "-c", "import sys; print(sys.executable); print(sys.prefix)"])
    assert [result["proof"]["executable"], result["proof"]["prefix"]] == said.stdout.split()
    spec = json.loads(spec_of(world, "lab").read_text())
    assert spec["argv"] == [python_of(env), "-m", "ipykernel_launcher", "-f", "{connection_file}"]
    assert result["change"]["state"] == "done"
    listed = run([sys.executable, "-c", (
        "import json; from jupyter_client.kernelspec import KernelSpecManager as K\n"
        "print(json.dumps({n: s['spec']['display_name'] for n, s in K().get_all_specs().items()}))")],
        env=world.env)
    version = f"{sys.version_info[0]}.{sys.version_info[1]}"
    assert json.loads(listed.stdout)["lab"] == f"lab (Python {version})"
    again = world.kalyx("enrol", "lab")
    assert again.returncode == 1 and "taken" in again.stderr
    assert world.answer("why", "sys", "--at", "kernel:lab")["exit"] == 0


def test_stays_undone_until_it_works(world: World, validate) -> None:
    """No kernel package, a dry run, a name that is not allowed: nothing is written."""
    lab = world.venv("lab", pip=True)
    write(lab / "x", "")
    for args, status, words in (
            (("enrol", "lab"), 1, "ipykernel"),
            (("enrol", "nix"), 3, "no environment"),
            (("enrol", str(world.project)), 3, "no environment")):
        done = world.kalyx(*args)
        assert done.returncode == status and words in done.stdout + done.stderr
    document = world.answer("enrol", "lab")
    validate(document)
    finding = document["result"]["findings"][0]
    assert finding["cause"] == "kernel-cannot-start"
    assert finding["remedies"][0]["argv"] == [python_of(lab), "-m", "pip", "install", "ipykernel"]
    with_kernel = with_real_kernel(world, "real")
    for args, status, words in (
            (("enrol", "real", "--dry-run"), 0, "kernel.json"),
            (("enrol", "real", "--name", "a/b"), 2, "letters"),
            (("enrol", "real", "--name", "python3"), 1, "default")):
        done = world.kalyx(*args)
        assert done.returncode == status and words in done.stdout + done.stderr
    assert not spec_of(world, "real").parent.parent.exists()
    assert with_kernel.exists()


BROKEN_KERNELS = {
    "ends at once": ("import sys; sys.stderr.write('no seeds\\n'); sys.exit(4)", "status 4"),
    "prints and never answers": ("import time; print('hello', flush=True); time.sleep(600)", "hello"),
    "wrong signature": ("", "wrong signature"),
    "ignores shutdown": ("", ""),
}


@pytest.mark.parametrize("name", BROKEN_KERNELS)
def test_broken_kernels_leave_nothing(name: str, world: World, validate) -> None:
    """A kernel that cannot prove itself is taken back, and no process stays behind."""
    env = world.venv("lab")
    code, words = BROKEN_KERNELS[name]
    real = Path(distributions.PAYLOAD, "sprigkernel.py").read_text()
    if name == "wrong signature":
        code = real.replace("hashlib.sha256", "hashlib.sha1")  # signs by another rule
        code = code.replace("if self.sign(parts) != frames[start + 1]", "if False")
    if name == "ignores shutdown":
        code = real.replace("self.done.set()", "pass")
    write(site_of(env) / "ipykernel_launcher.py", code)
    document = world.answer("enrol", "lab", "--timeout", "3", "--name", "odd-one")
    validate(document)
    left = [line for line in run(["ps", "-ww", "-eo", "args"]).stdout.splitlines() if str(world.root) in line]
    assert not [line for line in left if "ipykernel_launcher -f" in line]
    if name == "ignores shutdown":
        assert document["exit"] == 0
        return
    assert document["exit"] == 1 and not spec_of(world, "odd-one").parent.exists()
    assert words in document["result"]["findings"][0]["because"]


def test_wrong_interpreter_is_found_out(world: World) -> None:
    """A kernel package that starts another interpreter than the environment's is not accepted."""
    lab, old = world.venv("lab"), world.venv("old")

    for env in (lab, old):
        write(site_of(env) / "sprigkernel.py", Path(distributions.PAYLOAD, "sprigkernel.py").read_text())
    write(site_of(lab) / "ipykernel_launcher.py", (
        f"import os, sys\nos.execv({python_of(old)!r}, [{python_of(old)!r}, '-m', 'sprigkernel', "
        "*sys.argv[1:]])\n"))
    document = world.answer("enrol", "lab")
    assert document["exit"] == 1 and document["result"]["proof"]["answered"]
    assert str(old) in document["result"]["findings"][0]["because"]
    assert not spec_of(world, "lab").exists()


def test_overwriting_keeps_what_was_there(world: World) -> None:
    """--overwrite replaces at once and writes the old content into the journal."""
    with_real_kernel(world)
    before = kernelspec(world.home, "lab", ["/gone/python", "-m", "x"], "Old").read_text()
    document = world.answer("enrol", "lab", "--overwrite", "--label", "Lab of today")
    assert document["exit"] == 0, document
    record = document["result"]["change"]["files"][0]
    assert (record["path"], record["before"]) == (str(spec_of(world, "lab")), before)
    journal = world.home / ".local" / "share" / "kalyx" / "journal" / "000001.json"
    assert json.loads(journal.read_text())["actions"][0]["before"] == before
    assert json.loads(spec_of(world, "lab").read_text())["display_name"] == "Lab of today"


def test_client_against_the_real_kernel(tmp_path: Path) -> None:
    """Expressions are evaluated, errors named; a program that is not there is said."""
    argv = [sys.executable, "-m", "ipykernel_launcher", "-f", "{connection_file}"]
    env = {**os.environ, "HOME": str(tmp_path)}
    with StartedKernel(argv, env, str(tmp_path), 60) as kernel:
        assert kernel.evaluate({"a": "1 + 1"}) == {"a": "2"}
        with pytest.raises(KernelFailed, match="ZeroDivisionError"):
            kernel.evaluate({"a": "1 / 0"})
    with pytest.raises(KernelFailed, match="cannot be started"), StartedKernel(
            ["/nonexistent/python"], env, str(tmp_path), 5):
        pass


def test_standin_kernel_runs_under_a_real_client(world: World) -> None:
    """The demo's stand-in speaks the protocol to another client than ours."""
    env = make_venv(world.home / "envs" / "sprig")
    write(site_of(env) / "sprigkernel.py", Path(distributions.PAYLOAD, "sprigkernel.py").read_text())
    kernelspec(world.home, "sprig", [python_of(env), *distributions.KERNEL_ARGS])
    done = run([sys.executable, "-c", (
        "from jupyter_client.manager import start_new_kernel\n"
        "m, c = start_new_kernel(kernel_name='sprig', startup_timeout=30)\n"
        "out = []\n"
        "r = c.execute_interactive('print(6 * 7)\\n1 + 1', output_hook=out.append, timeout=30)\n"
        "print(r['content']['status'], [o['content'].get('text') for o in out"
        " if o['msg_type'] == 'stream'])\n"
        "m.shutdown_kernel()\n")], env=world.env)
    assert done.stdout.strip() == r"ok ['42\n']", done.stderr
