"""``fit`` and ``why FILE``: what code does without, and what it needs only where something else is so."""

from __future__ import annotations

from pathlib import Path

from tests.support.build import World, python_of, run, site_of, write


def _lab(world: World, name: str, *wheels: tuple[str, str]) -> str:
    lab = world.venv(name)
    for distribution, version in wheels:
        world.wheels.install(world.wheels.add(distribution, version), site_of(lab))
    return str(lab)


# What stands in for what, by files, and whether they run where beta_kit alone is
ALTERNATIVES = (
    ("one of two", ["try:\n    import alpha_kit\nexcept ImportError:\n    import beta_kit\n"]),
    ("of three the first",
     ["try:\n    import beta_kit\nexcept ImportError:\n    try:\n        import alpha_kit\n    except ImportError:\n"
      "        import gamma_kit\n"]),
    ("of three the second",
     ["try:\n    import alpha_kit\nexcept ImportError:\n    try:\n        import beta_kit\n    except ImportError:\n"
      "        import gamma_kit\n"]),
    ("of three none",
     ["try:\n    import alpha_kit\nexcept ImportError:\n    try:\n        import gamma_kit\n    except ImportError:\n"
      "        import delta_kit\n"]),
    ("another file needs it whatever is there",
     ["try:\n    import beta_kit\nexcept ImportError:\n    import alpha_kit\n", "import alpha_kit\n"]),
    ("a later line needs it whatever is there",
     ["try:\n    import beta_kit\nexcept ImportError:\n    import alpha_kit\nimport alpha_kit\n"]),
    ("two files, in place of two others",
     ["try:\n    import beta_kit\nexcept ImportError:\n    import alpha_kit\n",
      "try:\n    import gamma_kit\nexcept ImportError:\n    import alpha_kit\n"]),
    ("in an else, after what is there", ["try:\n    import beta_kit\nexcept ImportError:\n    pass\nelse:\n"
                                         "    import alpha_kit\n"]),
    ("in an else, after what is not there", ["try:\n    import alpha_kit\nexcept ImportError:\n    pass\nelse:\n"
                                             "    import gamma_kit\n"]),
    ("in place of what is there but for a part that is caught",
     ["try:\n    import beta_kit\n    try:\n        import alpha_kit\n    except ImportError:\n        pass\n"
      "except ImportError:\n    import gamma_kit\n"]),
    ("tried twice", ["import contextlib\nwith contextlib.suppress(ImportError):\n    import alpha_kit as z\n"
                     "try:\n    import alpha_kit\nexcept ImportError:\n    import gamma_kit\n"]),
    ("the program ends without it",
     ["import sys\ntry:\n    import alpha_kit\nexcept ImportError:\n    print('alpha_kit?')\n    sys.exit(1)\n"]),
    ("the program ends without it, either way",
     ["from sys import exit\ntry:\n    import alpha_kit\nexcept (ImportError, OSError) as error:\n"
      "    if __name__ == 'x':\n        raise\n    else:\n        exit(str(error))\n"]),
    ("the first that catches it raises", ["try:\n    import alpha_kit\nexcept ImportError:\n    raise\n"
                                          "except Exception:\n    pass\n"]),
    ("the first that catches it goes on", ["try:\n    import alpha_kit\nexcept ModuleNotFoundError:\n    pass\n"
                                           "except ImportError:\n    raise\n"]),
    ("the program ends under a condition alone",
     ["import sys\ntry:\n    import alpha_kit\nexcept ImportError:\n    if __name__ == 'x':\n        sys.exit(1)\n"]),
    ("used with nothing in its place",
     ["try:\n    import alpha_kit as kit\nexcept ImportError:\n    print('alpha_kit?')\nprint(kit)\n"]),
    ("used with something in its place",
     ["try:\n    from alpha_kit import kit\nexcept ImportError:\n    def kit():\n        pass\nprint(kit)\n"]),
    ("used later, or if it is there",
     ["try:\n    import alpha_kit\nexcept ImportError:\n    pass\ndef f(x):\n    return alpha_kit if x else 1\n"
      "y = [alpha_kit for n in ()] or (1 if 1 else alpha_kit)\ntry:\n    alpha_kit\nexcept NameError:\n    pass\n"]),
    ("of Python's own names", ["try:\n    from alpha_kit import zip\nexcept ImportError:\n    pass\nprint(zip)\n"]),
    ("for another Python", ["import sys\nif sys.version_info < (3,):\n    import alpha_kit\n"]),
    ("for this Python", ["import sys\nif sys.version_info >= (3, 5):\n    import alpha_kit\n"]),
    ("for this Python, and something else for others",
     ["import sys\nif sys.version_info[0] == 2:\n    import alpha_kit\nelse:\n    import beta_kit\n"]),
    ("for this Python, after others",
     ["import sys\nif sys.version_info < (3, 1):\n    import alpha_kit\nelif sys.version_info < (3, 2):\n"
      "    import gamma_kit\nelse:\n    import delta_kit\n"]),
    ("for another system", ["import sys\nif sys.platform == 'win32' or sys.version_info < (3,):\n    import winreg\n"
                            "    import alpha_kit\n"]),
    ("for this system", ["import os\nif os.name != 'nt':\n    import alpha_kit\n"]),
    ("for this Python, in place of what is not there",
     ["import sys\ntry:\n    import alpha_kit\nexcept ImportError:\n    if sys.version_info >= (3, 5):\n"
      "        import gamma_kit\n"]),
    ("for another Python, and in another file for all",
     ["import sys\nif sys.version_info < (3,):\n    import alpha_kit\n", "import alpha_kit\n"]),
    ("in a function that would end the program",
     ["import sys\ndef f():\n    try:\n        import alpha_kit\n    except ImportError:\n        sys.exit(1)\n"]),
    ("more of itself, where it is there",
     ["try:\n    import alpha_kit\nexcept ImportError:\n    alpha_kit = None\nelse:\n    import alpha_kit.part\n"]),
    ("what goes with a part that is not there",
     ["try:\n    from beta_kit import part\nexcept ImportError:\n    part = None\nelse:\n    import alpha_kit\n"]),
    ("what runs is a module itself", ["import __main__\nfrom __main__ import __name__ as name\nimport beta_kit\n"]),
    ("two files, in place of one", ["try:\n    import beta_kit\nexcept ImportError:\n    import alpha_kit\n"] * 2),
)


def test_alternatives(world: World) -> None:
    """Of alternatives one is enough, for each line that has them: what fits runs, and `why` says the same."""
    there = _lab(world, "second", ("beta-kit", "1"))
    for says, texts in ALTERNATIVES:
        files = [write(world.project / f"{name}.py", text) for name, text in zip("ab", texts, strict=False)]
        runs = all(run([python_of(Path(there)), file], env=world.env).returncode == 0 for file in files)
        names = [file.name for file in files]
        assert bool(world.answer("fit", *names, "--in", there)["result"]["best"]) == runs, says
        assert (world.kalyx("why", *names, "--at", f"env:{there}").returncode == 0) == runs, says
