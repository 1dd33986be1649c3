"""What pyproject.toml cannot say: the command is a script of our own where there is a shell to start it.

An installer's own script would load modules before our first line, and those a
hostile PYTHONPATH could bring.
"""

import os

from setuptools import setup

if os.name == "posix":
    setup(scripts=["bin/kalyx"], data_files=[("share/man/man1", ["docs/kalyx.1"])])
else:
    setup(entry_points={"console_scripts": ["kalyx = kalyx.__main__:main"]})
