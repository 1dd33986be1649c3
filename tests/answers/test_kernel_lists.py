"""``kernels --server`` in many worlds: what the server of that environment lists itself, no more and no less."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

import pytest

from tests.support.build import SHORT, World, python_of, run, site_of, write
from tests.support.thorough import first_of_each

LIST = """
import json, warnings
warnings.simplefilter("ignore")
from jupyter_client.kernelspec import KernelSpecManager
print(json.dumps({name: spec["resource_dir"] for name, spec in KernelSpecManager().get_all_specs().items()}))
"""
SPEC = {"argv": ["/usr/bin/python3", "-m", "x"], "display_name": "x", "language": "python"}
# what is registered for the user: folder, and what is different in it; a text is the whole file
USERS: dict[str, dict[str, object] | str | bytes] = {
    "plain": {}, "Upper Case": {}, "ünï": {}, "with blank": {}, "mode": {"interrupt_mode": "often"},
    "mode in capitals": {"interrupt_mode": "MESSAGE"}, "metadata": {"metadata": []}, "variables": {"env": []},
    "far": {"metadata": {"kernel_provisioner": {"provisioner_name": "far"}}},
    "local": {"metadata": {"kernel_provisioner": {"provisioner_name": "local-provisioner"}}},
    "nobody": {"metadata": {"kernel_provisioner": {}}}, "folder named": {"resource_dir": "/x"}, "more": {"frob": 3},
    "protocol": {"kernel_protocol_version": 5}, "no label": {"display_name": None}, "list": "[]", "noise": "{",
    "mark": "\ufeff" + json.dumps(SPEC), "latin": json.dumps(SPEC).replace('"x"', '"\u00eb"').encode("latin-1"),
}
ELSEWHERE = (".ipython", "ipython", "path/kernels", "base/share/jupyter", "xdg/jupyter", "all/jupyter", "data")
# the variables of the server; HOME and SERVER stand for those folders
WORLDS: dict[str, dict[str, str]] = {
    "nothing set": {}, "path": {"JUPYTER_PATH": "HOME/path"}, "path with ~": {"JUPYTER_PATH": "~/path:HOME/path/"},
    "data folder": {"JUPYTER_DATA_DIR": "HOME/data"}, "data folder with ~": {"JUPYTER_DATA_DIR": "~/data"},
    "xdg": {"XDG_DATA_HOME": "HOME/xdg"}, "ipython": {"IPYTHONDIR": "HOME/ipython"},
    "ipython with ~": {"IPYTHONDIR": "~/ipython"},
    "user base": {"PYTHONUSERBASE": "HOME/base"},
    "user base off": {"PYTHONUSERBASE": "HOME/base", "PYTHONNOUSERSITE": "1"},
    "the user's first": {"JUPYTER_PREFER_ENV_PATH": "0"}, "the environment's first": {"JUPYTER_PREFER_ENV_PATH": "yes"},
    "conda": {"CONDA_PREFIX": "SERVER", "CONDA_DEFAULT_ENV": "lab"},
    "platform's folders": {"JUPYTER_PLATFORM_DIRS": "1", "XDG_DATA_DIRS": "HOME/all"},
}
SERVERS = {"closed": tuple(WORLDS), "open": ("nothing set", "user base", "user base off", "the user's first"),
           "without a kernel package": ("nothing set", "data folder", "ipython")}


def serving(world: World, kind: str) -> Path:
    """Make an environment that has a notebook server: it links to that of the tests."""
    env = world.venv("server", options=("--system-site-packages",) if kind == "open" else ())
    for entry in (Path(sys.prefix) / "lib" / f"python{SHORT}" / "site-packages").iterdir():
        own = kind.startswith("without") and entry.name.startswith(("ipykernel", "IPython", "ipython"))
        if not own and not entry.name.startswith(("kalyx", "__editable", "_kalyx", "pip")):
            (site_of(env) / entry.name).symlink_to(entry)
    return env


@pytest.mark.parametrize("kind", first_of_each(SERVERS, lambda k: None, 1))
def test_as_the_server_lists_them(kind: str, world: World) -> None:
    """Names and folders are those of the server, in each world; what it drops is said to be unreadable."""
    home, env = world.home, serving(world, kind)
    users = home / ".local/share/jupyter/kernels"
    for name, more in USERS.items():
        text = json.dumps({**SPEC, **more}) if isinstance(more, dict) else more
        write(users / name / "kernel.json", text)
    for place in (*ELSEWHERE, ".local/share/jupyter"):
        write(home / place / "kernels" / place.split("/")[0].strip(".") / "kernel.json", json.dumps(SPEC))
    for name in ("plain", "mine"):
        write(env / "share/jupyter/kernels" / name / "kernel.json", json.dumps(SPEC))
    write(users / "stray.json", "{}")
    (users / "folder for a file" / "kernel.json").mkdir(parents=True)
    for name in SERVERS[kind]:
        more = {k: v.replace("HOME", str(home)).replace("SERVER", str(env)) for k, v in WORLDS[name].items()}
        done = run([python_of(env), "-c", LIST], cwd=world.project, env={**world.env, **more})
        assert done.returncode == 0, done.stderr
        found = {}
        for kernel in world.answer("kernels", "--server", str(env), env=more)["result"]["kernels"]:
            causes = {f["cause"] for f in kernel["findings"]}
            if not causes & {"kernel-hidden", "kernel-unreadable"}:
                found[kernel["name"]] = os.path.realpath(os.path.dirname(kernel["spec"]))
        assert found == {k: os.path.realpath(v) for k, v in json.loads(done.stdout).items()}, name
