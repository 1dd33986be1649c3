"""Where things lie and what they are called on each system, and in each layout of an installation."""

from __future__ import annotations

import pytest
from packaging.tags import parse_tag
from packaging.utils import parse_wheel_filename

from kalyx.core.facts.configuration.own_files import user_folder
from kalyx.core.facts.environments.activation import activation_variables
from kalyx.core.facts.environments.survey import PLACES, is_installation, program_names
from kalyx.core.facts.interpreters.environment import prefix_of, program_folder, python_in
from kalyx.core.facts.interpreters.installation import find_library, is_python, read_version
from kalyx.core.facts.interpreters.path_lookup import find_on_path, split_path
from kalyx.core.facts.kernels.data_folders import data_folders
from kalyx.core.facts.packaging.requirements import applies, is_met, marker_values, suits
from kalyx.core.facts.packaging.wheelhouse import Target, Wheelhouse, fits, local_folder
from kalyx.core.facts.search_path.site_folders import site_folders, user_site, user_sites
from kalyx.core.facts.seats.context import SeatContext
from kalyx.core.model import Environment, Interpreter
from kalyx.core.quoting import join_words, name_of_shell, quote_word
from tests.support.made_up import MadeUpMachine

HOMES = {"linux": "/home/ada", "darwin": "/Users/ada", "win32": r"C:\Users\ada"}
ROAMING, LOCAL = r"C:\Users\ada\AppData\Roaming", r"C:\Users\ada\AppData\Local"


def machine(platform: str, files: dict[str, str | bytes] | list[str] | None = None, **env: str) -> MadeUpMachine:
    """Return a machine of a platform with some files and variables."""
    given = files if isinstance(files, dict) else dict.fromkeys(files or [], "")
    return MadeUpMachine(platform, given, env=env, home=HOMES[platform])


# -- the user's folders -----------------------------------------------------------------------
@pytest.mark.parametrize(("platform", "env", "what", "folder"), [
    ("linux", {}, "config", "/home/ada/.config/kalyx"), ("linux", {}, "data", "/home/ada/.local/share/kalyx"),
    ("linux", {}, "cache", "/home/ada/.cache/kalyx"), ("linux", {"XDG_DATA_HOME": "/d"}, "data", "/d/kalyx"),
    ("linux", {"XDG_CACHE_HOME": "/c"}, "cache", "/c/kalyx"), ("linux", {"XDG_CONFIG_HOME": ""}, "config",
                                                               "/home/ada/.config/kalyx"),
    ("darwin", {"XDG_DATA_HOME": "/d"}, "data", "/Users/ada/Library/Application Support/kalyx"),
    ("darwin", {}, "cache", "/Users/ada/Library/Caches/kalyx"),
    ("win32", {"APPDATA": ROAMING}, "config", rf"{ROAMING}\kalyx"), ("win32", {}, "data", rf"{LOCAL}\kalyx"),
    ("win32", {"LOCALAPPDATA": r"D:\l"}, "cache", r"D:\l\kalyx"), ("other", {}, "data", "/home/ada/.local/share/kalyx"),
])
def test_own_folders(platform: str, env: dict[str, str], what: str, folder: str) -> None:
    """Kalyx keeps its files where the system's rules say; a system that it does not know is as Linux."""
    given = MadeUpMachine(platform, {}, env=env, home=HOMES.get(platform, "/home/ada"))
    assert user_folder(given, what) == folder


@pytest.mark.parametrize(("platform", "version", "implementation", "env", "framework", "folder"), [
    ("linux", "3.11.4", "cpython", {}, False, "/home/ada/.local/lib/python3.11/site-packages"),
    ("linux", "3.9", "pypy", {}, False, "/home/ada/.local/lib/pypy3.9/site-packages"),
    ("linux", "3.7", "pypy", {}, False, "/home/ada/.local/lib/python3.7/site-packages"),
    ("linux", "2.7", "cpython", {"PYTHONUSERBASE": "/u"}, False, "/u/lib/python2.7/site-packages"),
    ("darwin", "3.11", "cpython", {}, False, "/Users/ada/.local/lib/python3.11/site-packages"),
    ("darwin", "3.11", "cpython", {}, True, "/Users/ada/Library/Python/3.11/lib/python/site-packages"),
    ("darwin", "3.11", "cpython", {"PYTHONUSERBASE": "/u"}, True, "/u/lib/python3.11/site-packages"),
    ("win32", "3.11.4", "cpython", {"APPDATA": ROAMING}, False, rf"{ROAMING}\Python\Python311\site-packages"),
    ("win32", "3.9", "cpython", {}, False, r"C:\Users\ada\Python\Python39\site-packages"),
    ("win32", "3.13", "cpython", {"PYTHONUSERBASE": r"D:\u"}, False, r"D:\u\Python313\site-packages"),
])
def test_user_sites(platform: str, version: str, implementation: str, env: dict[str, str], framework: bool,
                    folder: str) -> None:
    """The user site is where the `site` module of that Python has it, and is found where it is there."""
    given = machine(platform, [folder + ("\\x.py" if platform == "win32" else "/x.py")], **env)
    assert user_site(given, version, implementation, framework=framework) == folder
    assert [(f, v) for f, v in user_sites(given)] == [(folder, ".".join(version.split(".")[:2]))]
    assert user_sites(machine(platform, **env)) == []


LAYOUTS = {
    "an environment": ("linux", "/e", ["/e/lib/python3.11/site-packages/x.py"], None,
                       ["/e/lib/python3.11/site-packages"]),
    "of two versions": ("linux", "/e", ["/e/lib/python3.11/site-packages/x", "/e/lib/python3.9/site-packages/y"], None,
                        ["/e/lib/python3.11/site-packages", "/e/lib/python3.9/site-packages"]),
    "of the one asked for": ("linux", "/e", ["/e/lib/python3.11/site-packages/x", "/e/lib/python3.9/site-packages/y"],
                             "3.9.2", ["/e/lib/python3.9/site-packages"]),
    "two libraries": ("linux", "/e", ["/e/lib/python3.9/site-packages/x", "/e/lib64/python3.9/site-packages/y"], None,
                      ["/e/lib/python3.9/site-packages", "/e/lib64/python3.9/site-packages"]),
    "Debian": ("linux", "/usr", ["/usr/lib/python3/dist-packages/x", "/usr/local/lib/python3.11/dist-packages/y",
                                 "/usr/lib/python3.11/os.py"], "3.11",
               ["/usr/lib/python3/dist-packages", "/usr/local/lib/python3.11/dist-packages"]),
    "PyPy": ("linux", "/p", ["/p/lib/pypy3.10/site-packages/x"], None, ["/p/lib/pypy3.10/site-packages"]),
    "without the lock": ("linux", "/f", ["/f/lib/python3.13t/site-packages/x"], None,
                         ["/f/lib/python3.13t/site-packages"]),
    "no version": ("linux", "/e", ["/e/lib/python/site-packages/x", "/e/lib/other/site-packages/x"], None, []),
    "Windows": ("win32", r"C:\e", [r"C:\e\Lib\site-packages\x.py"], None, [r"C:\e\Lib\site-packages"]),
    "Windows without one": ("win32", r"C:\e", [r"C:\e\Lib\os.py"], None, []),
}


@pytest.mark.parametrize("name", LAYOUTS)
def test_site_folders(name: str) -> None:
    """The folders of an environment's packages are found in each layout, and no others."""
    platform, prefix, files, version, expected = LAYOUTS[name]
    assert site_folders(machine(platform, files), prefix, version=version) == expected


# -- interpreters ---------------------------------------------------------------------------------
@pytest.mark.parametrize(("platform", "program", "prefix", "folder", "python"), [
    ("linux", "/e/bin/python3.11", "/e", "/e/bin", "/e/bin/python"),
    ("darwin", "/e/bin/python", "/e", "/e/bin", "/e/bin/python"),
    ("win32", r"C:\e\Scripts\python.exe", r"C:\e", r"C:\e\Scripts", r"C:\e\Scripts\python.exe"),
    ("win32", r"C:\Py311\python.exe", r"C:\Py311", r"C:\Py311\Scripts", r"C:\Py311\python.exe"),
    ("win32", r"C:\e\SCRIPTS\python.exe", r"C:\e", r"C:\e\Scripts", r"C:\e\SCRIPTS\python.exe"),
])
def test_programs_and_prefixes(platform: str, program: str, prefix: str, folder: str, python: str) -> None:
    """From a program to its prefix and back."""
    given = machine(platform, [program, *([rf"{prefix}\pyvenv.cfg"] if "cripts" in program.lower() else [])])
    assert prefix_of(given, program) == prefix and program_folder(given, prefix) == folder
    if program.endswith(("python", ".exe")):
        assert given.same(python_in(given, prefix), python)


ELF = b"\x7fELF..Py_BytesMain..Py_Main\0"
INSTALLED = {
    "usual": ("linux", "/p/bin/python3.11", {"/p/bin/python3.11": ELF, "/p/lib/python3.11/os.py": ""},
              ("/p", "/p/lib/python3.11")),
    "64": ("linux", "/p/bin/python3.11", {"/p/bin/python3.11": ELF, "/p/lib64/python3.11/os.py": ""},
           ("/p", "/p/lib64/python3.11")),
    "further up": ("linux", "/p/x/y/bin/python3.11", {"/p/x/y/bin/python3.11": ELF, "/p/lib/python3.11/os.py": ""},
                   ("/p", "/p/lib/python3.11")),
    "another version's": ("linux", "/p/bin/python3.11", {"/p/bin/python3.11": ELF, "/p/lib/python3.9/os.py": ""}, None),
    "at the root": ("linux", "/bin/python3.11", {"/bin/python3.11": ELF, "/lib/python3.11/os.py": ""}, None),
    "by a link": ("linux", "/e/bin/python", {"/e/bin/python": "->/p/bin/python3.11", "/p/bin/python3.11": ELF,
                                             "/p/lib/python3.11/os.py": ""}, None),
    "without the lock": ("linux", "/p/bin/python3.13t", {"/p/bin/python3.13t": ELF, "/p/lib/python3.13t/os.py": ""},
                         ("/p", "/p/lib/python3.13t")),
    "Windows": ("win32", r"C:\P\python.exe", {r"C:\P\python.exe": b"MZ", r"C:\P\Lib\os.py": ""},
                (r"C:\P", r"C:\P\Lib")),
    "Windows, none": ("win32", r"C:\P\python.exe", {r"C:\P\python.exe": b"MZ"}, None),
}


@pytest.mark.parametrize("name", INSTALLED)
def test_libraries(name: str) -> None:
    """The standard library is where the interpreter would search for it, from its own place upwards."""
    platform, program, files, expected = INSTALLED[name]
    given = machine(platform, dict(files))
    assert find_library(given, program) == expected
    assert is_python(given, program) == (expected is not None or name in ("by a link", "at the root"))
    if expected is not None and name in ("usual", "Windows"):
        assert is_installation(machine(platform, {**files, "/p/bin/python": "->python3.11"}), expected[0])


@pytest.mark.parametrize(("platform", "base", "program", "files", "version"), [
    ("linux", "/p", "/p/bin/python3.11", {"/p/include/python3.11/patchlevel.h": '#define PY_VERSION "3.11.4"\n'},
     "3.11.4"),
    ("linux", "/p", "/p/bin/python3.11", {"/p/include/python3.9/patchlevel.h": '#define PY_VERSION "3.9.1"\n'}, None),
    ("linux", "/c", "/c/bin/python3.10", {"/c/conda-meta/python-3.10.8-h1_0.json": "{}"}, "3.10.8"),
    ("win32", r"C:\P", r"C:\P\python.exe", {
        r"C:\P\Include\patchlevel.h": '# define X\n#define PY_VERSION "3.12.0rc1"\n'}, "3.12.0rc1"),
    ("win32", r"C:\c", r"C:\c\python.exe", {r"C:\c\conda-meta\python-3.9.1-h_0.json": "{}"}, "3.9.1"),
    ("linux", "/p", "/p/bin/python3.11", {"/p/include/python3.11/patchlevel.h": "nothing of that\n"}, None),
])
def test_versions(platform: str, base: str, program: str, files: dict[str, str], version: str | None) -> None:
    """The full version stands in the header, or in what a package manager wrote; it is not guessed."""
    assert read_version(machine(platform, {**files, program: b"\0"}), base, program) == version


PATHS = [
    ("linux", "/a:/b", {}, ["/b/python"], "python", ["/b/python"]), ("linux", ":/b", {}, ["/home/ada/python"], "python",
                                                                    ["/home/ada/python"]),
    ("linux", "", {}, ["/home/ada/python"], "python", []), ("linux", "/a:/a/../a:/a", {}, ["/a/python"], "python",
                                                            ["/a/python"]),
    ("win32", r"C:\a;C:\b", {}, [r"C:\b\python.exe", r"C:\a\python.py"], "python", [r"C:\b\python.exe"]),
    ("win32", r'"C:\a b";C:\b', {}, [r"C:\a b\python.bat", r"C:\b\python.exe"], "python",
     [r"C:\a b\python.bat", r"C:\b\python.exe"]),
    ("win32", r"C:\a", {"PATHEXT": ".PY;.EXE"}, [r"C:\a\python.exe", r"C:\a\python.py"], "python", [r"C:\a\python.py"]),
    ("win32", r"C:\a", {}, [r"C:\a\python.exe", r"C:\a\python.exe.exe"], "python.exe", [r"C:\a\python.exe"]),
    ("win32", r"C:\a", {}, [r"C:\a\python"], "python", []),
]


@pytest.mark.parametrize("number", range(len(PATHS)))
def test_what_path_finds(number: int) -> None:
    """Entries and endings count as the system's own search has them."""
    platform, value, env, files, name, expected = PATHS[number]
    given = machine(platform, files, PATH=value, **env)
    found = find_on_path(given, name)
    assert [f.path.lower() for f in found] == [e.lower() for e in expected]
    assert [f.path for f in find_on_path(given, name, first_only=True)] == [f.path for f in found][:1]
    assert all(given.path.isabs(f) for f in split_path(given, value))


SURVEYED = {
    "linux": ({"WORKON_HOME": "/shelf"}, ["/shelf/a", "/home/ada/.virtualenvs/b", "/home/ada/envs/c",
                                         "/home/ada/.cache/pypoetry/virtualenvs/d", "/home/ada/miniconda3/envs/e"],
              ["/home/ada/Library/Caches/pypoetry/virtualenvs/x", "/home/ada/scoop/apps/x"]),
    "darwin": ({}, ["/Users/ada/.virtualenvs/b", "/Users/ada/Library/Caches/pypoetry/virtualenvs/d",
                    "/Users/ada/miniforge3/envs/e"], ["/Users/ada/.cache/pypoetry/virtualenvs/x"]),
    "win32": ({"LOCALAPPDATA": LOCAL}, [rf"{LOCAL}\pypoetry\Cache\virtualenvs\d", r"C:\Users\ada\envs\c",
                                        r"C:\Users\ada\miniconda3\envs\e"], [r"C:\opt\x"]),
}


@pytest.mark.parametrize("platform", SURVEYED)
def test_environments_are_found(platform: str) -> None:
    """Environments in the usual places of a system are found, those in another system's places are not."""
    env, inside, outside = SURVEYED[platform]
    sep, bin_folder = ("\\", "Scripts\\python.exe") if platform == "win32" else ("/", "bin/python")
    files = {f"{e}{sep}{f}": text for e in (*inside, *outside) for f, text in (
        ("pyvenv.cfg", "version = 3.11.4\n"), (bin_folder, ""))}
    context = SeatContext(machine(platform, dict(files), **env), sep + "elsewhere", "/probe", asks_when_read=False)
    assert sorted(e.path for e in context.environments()) == sorted(inside)
    assert {p for p, _ in PLACES} == {"all", "posix", *SURVEYED}
    names = program_names(context.machine)
    assert all(n.endswith(".exe") == (platform == "win32") for n in names) and len(set(names)) == len(names) > 50


# -- kernels -----------------------------------------------------------------------------------------
SERVER = {"linux": "/s", "darwin": "/s", "win32": r"C:\s"}


@pytest.mark.parametrize(("platform", "env", "expected"), [
    ("linux", {}, ["/home/ada/.local/share/jupyter/kernels", "/s/share/jupyter/kernels",
                   "/usr/local/share/jupyter/kernels", "/usr/share/jupyter/kernels"]),
    ("linux", {"JUPYTER_PLATFORM_DIRS": "1", "XDG_DATA_DIRS": "/x/:/y"},
     ["/home/ada/.local/share/jupyter/kernels", "/s/share/jupyter/kernels", "/x/jupyter/kernels",
      "/y/jupyter/kernels"]),
    ("darwin", {}, ["/Users/ada/Library/Jupyter/kernels", "/Users/ada/.local/share/jupyter/kernels",
                    "/s/share/jupyter/kernels", "/usr/local/share/jupyter/kernels", "/usr/share/jupyter/kernels"]),
    ("win32", {"APPDATA": ROAMING, "PROGRAMDATA": r"C:\ProgramData"},
     [rf"{ROAMING}\jupyter\kernels", r"C:\s\share\jupyter\kernels", r"C:\ProgramData\jupyter\kernels"]),
    ("win32", {}, [r"C:\Users\ada\.jupyter\data\kernels", r"C:\s\share\jupyter\kernels"]),
    ("win32", {"JUPYTER_PATH": r"D:\k;E:\k", "APPDATA": ROAMING},
     [r"D:\k\kernels", r"E:\k\kernels", rf"{ROAMING}\jupyter\kernels", r"C:\s\share\jupyter\kernels"]),
])
def test_where_a_server_looks_for_kernels(platform: str, env: dict[str, str], expected: list[str]) -> None:
    """In each system's folders, in their order, each once."""
    prefix = SERVER[platform]
    server = Interpreter(f"{prefix}/bin/python", f"{prefix}/bin/python", "3.11.2", "cpython", prefix, prefix)
    assert [folder for _, folder in data_folders(machine(platform, **env), server)] == expected


# -- packages ------------------------------------------------------------------------------------------
CONFIGS = {
    "linux": ({}, ["/home/ada/.config/pip/pip.conf", "/etc/xdg/pip/pip.conf", "/etc/pip.conf",
                   "/home/ada/.pip/pip.conf", "/e/pip.conf"]),
    "darwin": ({}, ["/Users/ada/.config/pip/pip.conf", "/Users/ada/Library/Application Support/pip/pip.conf",
                    "/Library/Application Support/pip/pip.conf", "/e/pip.conf"]),
    "win32": ({"APPDATA": ROAMING, "PROGRAMDATA": r"C:\ProgramData"},
              [rf"{ROAMING}\pip\pip.ini", r"C:\ProgramData\pip\pip.ini", r"C:\Users\ada\pip\pip.ini", r"C:\e\pip.ini"]),
}


@pytest.mark.parametrize("platform", CONFIGS)
def test_settings_of_pip(platform: str) -> None:
    """What pip is told in each of the files that it reads on a system, and by variables, is known of it, too."""
    env, places = CONFIGS[platform]
    prefix = r"C:\e" if platform == "win32" else "/e"
    for place in places:
        given = machine(platform, {place: "[global]\nno-index = yes\n"}, **env)
        assert Wheelhouse(given, given.env, prefix).is_closed, place
    for text in ("[global]\nno-index = no\n", "[freeze]\nno-index = yes\n", "no-index\n", "[global\n"):
        given = machine(platform, {places[0]: text}, **env)
        assert not Wheelhouse(given, given.env, prefix).is_closed, text
    off = {"PIP_CONFIG_FILE": "nul" if platform == "win32" else "/dev/null"}
    given = machine(platform, {places[-1]: "[global]\nno-index = yes\n"}, **env, **off)
    assert not Wheelhouse(given, given.env, prefix).is_closed, "that switches them off"
    assert Wheelhouse(given, {**given.env, "PIP_NO_INDEX": "1"}, prefix).is_closed


@pytest.mark.parametrize(("text", "system", "path"), [
    ("file:///w/a%20b", "linux", "/w/a b"), ("file:///C:/w/a", "win32", r"C:\w\a"), ("/w", "linux", "/w"),
    (r"C:\w", "win32", r"C:\w"), ("https://host/simple", "linux", None), ("git+ssh://host/r", "darwin", None)])
def test_addresses_of_this_machine(text: str, system: str, path: str | None) -> None:
    """A setting that names a folder, in either form, is told from an address."""
    assert local_folder(text, system) == path


LINUX, MAC, WIN = (Target("3.11.4", "cpython", s, p) for s, p in (
    ("linux", "x86_64"), ("darwin", "arm64"), ("win32", "AMD64")))
WHEELS = {
    "a-1-py3-none-any.whl": (True, True, True), "a-1-py2-none-any.whl": (False, False, False),
    "a-1-py2.py3-none-any.whl": (True, True, True), "a-1-py311-none-any.whl": (True, True, True),
    "a-1-cp311-cp311-manylinux_2_17_x86_64.whl": (True, False, False),
    "a-1-cp311-cp311-musllinux_1_1_x86_64.whl": (False, False, False),
    "a-1-cp311-cp311-linux_x86_64.whl": (True, False, False),
    "a-1-cp311-cp311-manylinux2014_aarch64.whl": (False, False, False),
    "a-1-cp311-cp311-macosx_11_0_arm64.whl": (False, True, False),
    "a-1-cp311-cp311-macosx_10_9_universal2.whl": (False, True, False),
    "a-1-cp311-cp311-macosx_10_9_x86_64.whl": (False, False, False),
    "a-1-cp311-cp311-win_amd64.whl": (False, False, True), "a-1-cp312-cp312-win_amd64.whl": (False, False, False),
    "a-1-cp39-abi3-manylinux_2_17_x86_64.whl": (True, False, False),
    "a-1-cp39-abi3-win_amd64.whl": (False, False, True),
    "a-1-cp312-abi3-win_amd64.whl": (False, False, False), "a-1-cp311-none-win_amd64.whl": (False, False, True),
    "a-1-cp311-cp311d-manylinux_2_17_x86_64.whl": (False, False, False),
    "a-1-cp311-cp311t-manylinux_2_17_x86_64.whl": (False, False, False),
    "a-1-pp311-pypy311_pp73-manylinux_2_17_x86_64.whl": (False, False, False),
}


@pytest.mark.parametrize("name", WHEELS)
def test_which_wheels_fit(name: str) -> None:
    """A wheel's tags say which interpreters on which systems can use it."""
    tags = parse_wheel_filename(name)[3]
    assert tuple(any(fits(t, target) for t in tags) for target in (LINUX, MAC, WIN)) == WHEELS[name]


@pytest.mark.parametrize(("tag", "target", "is_fit"), [
    ("cp313-cp313t-manylinux_2_17_x86_64", Target("3.13.0", "cpython", "linux", "x86_64", "t"), True),
    ("cp313-cp313-manylinux_2_17_x86_64", Target("3.13.0", "cpython", "linux", "x86_64", "t"), False),
    ("cp39-abi3-manylinux_2_17_x86_64", Target("3.13.0", "cpython", "linux", "x86_64", "t"), False),
    ("cp311-cp311-manylinux_2_17_x86_64", Target("3.11.0", "cpython", "linux", "x86_64", "d"), True),
    ("cp311-cp311d-manylinux_2_17_x86_64", Target("3.11.0", "cpython", "linux", "x86_64", "d"), True),
    ("cp37-cp37m-manylinux1_x86_64", Target("3.7.1", "cpython", "linux", "x86_64"), True),
    ("cp27-cp27mu-manylinux1_x86_64", Target("2.7.18", "cpython", "linux", "x86_64"), True),
    ("py2-none-any", Target("2.7.18", "cpython", "linux", "x86_64"), True),
    ("cp311-cp311-musllinux_1_1_x86_64", Target("3.11.0", "cpython", "linux", "x86_64", is_musl=True), True),
    ("cp311-cp311-manylinux_2_17_x86_64", Target("3.11.0", "cpython", "linux", "x86_64", is_musl=True), False),
    ("cp311-cp311-win32", Target("3.11.0", "cpython", "win32", "AMD64"), True),
    ("pp310-pypy310_pp73-win_amd64", Target("3.10.0", "pypy", "win32", "AMD64"), True),
])
def test_which_builds_fit(tag: str, target: Target, is_fit: bool) -> None:
    """So do the marks of debug and free-threaded builds, of old ones, of another C library, of PyPy."""
    assert any(fits(t, target) for t in parse_tag(tag)) is is_fit


@pytest.mark.parametrize(("requirement", "holds"), [
    ("a", "LMW"), ("a; sys_platform == 'win32'", "W"), ("a; platform_system == 'Darwin'", "M"),
    ("a; os_name == 'posix'", "LM"), ("a; python_version < '3.9'", ""), ("a; python_full_version >= '3.11.4'", "LMW"),
    ("a; implementation_name == 'cpython' and sys_platform != 'win32'", "LM"), ("a; extra == 'fast'", ""),
    ("a; no_such == 'x'", ""), ("not a requirement; x", ""), ("not one", "LMW"), ("a; python_version < 'x'", "")])
def test_markers(requirement: str, holds: str) -> None:
    """A requirement counts where its marker holds on that system; one that cannot be read with a marker does not."""
    found = "".join(letter for letter, platform in (("L", "linux"), ("M", "darwin"), ("W", "win32"))
                    if applies(requirement, marker_values("3.11.4", "cpython", platform)))
    assert found == holds
    if "extra" in requirement:
        assert applies(requirement, marker_values("3.11.4", "cpython", "linux"), ("", "fast"))


@pytest.mark.parametrize(("requirement", "version", "met"), [
    ("a>=1", "1.2", True), ("a>=1", "1.2rc1", True), ("a<1", "1.2", False), ("a", "0", True), ("a==1.*", "1.9", True),
    ("a>=1", "of today", None), ("a b", "1", None), ("a @ https://host/a.whl", "1", True), ("a===1.0", "1.0", True)])
def test_requirements(requirement: str, version: str, met: bool | None) -> None:
    """What cannot be compared is neither met nor not."""
    assert is_met(requirement, version) is met
    assert suits("", version) and suits("of today", version)
    assert suits(">=3.9", "3.11.4") and not suits(">=3.12", "3.11.4")


# -- words of a shell ----------------------------------------------------------------------------------
@pytest.mark.parametrize(("platform", "kind", "files", "expected"), [
    ("linux", "venv", [], {"PATH": "/e/bin:${PATH}", "VIRTUAL_ENV": "/e"}), ("linux", "base", [], {}),
    ("linux", "conda", ["/e/share/proj/x"], {"PATH": "/e/bin:${PATH}", "CONDA_PREFIX": "/e", "CONDA_DEFAULT_ENV": "e",
                                            "PROJ_DATA": "/e/share/proj", "PROJ_LIB": "/e/share/proj"}),
    ("win32", "venv", [], {"PATH": r"C:\e\Scripts;${PATH}", "VIRTUAL_ENV": r"C:\e"}),
    ("win32", "conda", [], {"PATH": r"C:\e;C:\e\Library\mingw-w64\bin;C:\e\Library\usr\bin;C:\e\Library\bin;"
                                    r"C:\e\Scripts;${PATH}", "CONDA_PREFIX": r"C:\e", "CONDA_DEFAULT_ENV": "e"}),
])
def test_variables_of_an_environment(platform: str, kind: str, files: list[str], expected: dict[str, str]) -> None:
    """What activating means in each layout on each system."""
    prefix = r"C:\e" if platform == "win32" else "/e"
    given = machine(platform, [*files, prefix + ("\\x" if platform == "win32" else "/x"), *(
        [rf"{prefix}\pyvenv.cfg"] if kind == "venv" and platform == "win32" else [])])
    assert activation_variables(given, Environment(prefix, "e", kind)) == expected  # type: ignore[arg-type]


@pytest.mark.parametrize(("word", "sh", "fish", "csh", "cmd", "powershell", "nu", "xonsh"), [
    ("plain-1.0/x", "plain-1.0/x", "plain-1.0/x", "plain-1.0/x", "plain-1.0/x", "plain-1.0/x", '"plain-1.0/x"',
     "'plain-1.0/x'"),
    ("a b", "'a b'", "'a b'", "'a b'", '"a b"', "'a b'", '"a b"', "'a b'"),
    ("it's", "'it'\"'\"'s'", "'it\\'s'", "'it'\"'\"'s'", '"it\'s"', "'it''s'", '"it\'s"', '"it\'s"'),
    ('say "x"', "'say \"x\"'", "'say \"x\"'", "'say \"x\"'", '"say ""x"""', "'say \"x\"'", '"say \\"x\\""',
     "'say \"x\"'"),
    ("a>=1,<2", "'a>=1,<2'", "'a>=1,<2'", "'a>=1,<2'", '"a>=1,<2"', "'a>=1,<2'", '"a>=1,<2"', "'a>=1,<2'"),
    ("wow!", "'wow!'", "'wow!'", "'wow'\\!''", '"wow!"', "'wow!'", '"wow!"', "'wow!'"),
    ("", "''", "''", "''", '""', "''", '""', "''"),
    ("50%", "50%", "50%", "50%", '"50%"', "'50%'", '"50%"', "'50%'"),
    ("a\\b", "'a\\b'", "'a\\\\b'", "'a\\b'", "a\\b", "a\\b", '"a\\\\b"', "'a\\\\b'"),
    ("a\nb", "$'a\\012b'", "'a\nb'", "'a\\\nb'", '"a\nb"', "'a\nb'", '"a\\nb"', "'a\\nb'"),
])
def test_words_are_quoted(word: str, sh: str, fish: str, csh: str, cmd: str, powershell: str, nu: str,
                          xonsh: str) -> None:
    """Each word as each shell wants it; a quoted program is called in PowerShell by its sign."""
    assert [quote_word(word, s) for s in ("sh", "fish", "csh", "cmd", "powershell", "nu", "xonsh")] == [
        sh, fish, csh, cmd, powershell, nu, xonsh]
    line = join_words((word, "x"), "powershell")
    assert line == f"{'& ' if powershell[:1] == chr(39) else ''}{powershell} x"


@pytest.mark.parametrize(("platform", "env", "name"), [
    ("win32", {"PSModulePath": "x"}, "powershell"), ("win32", {"PSModulePath": "x", "PROMPT": "$P$G"}, "cmd"),
    ("win32", {}, "cmd"), ("linux", {"SHELL": "/usr/bin/fish"}, "fish"), ("linux", {"SHELL": "/bin/tcsh"}, "csh"),
    ("linux", {"SHELL": ""}, "sh"), ("darwin", {"SHELL": "/bin/zsh"}, "zsh")])
def test_which_shell_it_is(platform: str, env: dict[str, str], name: str) -> None:
    """By what the shells of a system set."""
    assert name_of_shell(platform, env) == name
