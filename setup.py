"""What pyproject.toml cannot say: the command is a script of our own where there is a shell to start it.

An installer's own script would load modules before our first line, and those a
hostile PYTHONPATH could bring. So a wheel is for systems of the kind that it was
built on, though all its modules run anywhere.
"""

import os

from setuptools import setup
from setuptools.command.bdist_wheel import bdist_wheel


class WheelOfOneSystem(bdist_wheel):
    """A wheel for any Python 3, and for the platform that it is built on."""

    def get_tag(self):
        """Return the tag: no part of it is compiled, and the platform is named as it is for what is."""
        self.root_is_pure = False
        try:
            return "py3", "none", super().get_tag()[2]
        finally:
            self.root_is_pure = True


if os.name == "posix":
    setup(scripts=["bin/kalyx"], data_files=[("share/man/man1", ["docs/kalyx.1"])],
          cmdclass={"bdist_wheel": WheelOfOneSystem})
else:
    setup(entry_points={"console_scripts": ["kalyx = kalyx.__main__:main"]}, cmdclass={"bdist_wheel": WheelOfOneSystem})
