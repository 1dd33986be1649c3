"""The files of code that ``fit`` reads, and what counts of each."""

from __future__ import annotations

from functools import cache

from kalyx.core.errors import NothingToJudge
from kalyx.core.facts.packaging.project_files import project_folder
from kalyx.core.facts.source_code.code_needs import CodeNeeds
from kalyx.core.facts.source_code.needs import read_needs_anew
from kalyx.core.facts.source_code.parse_choice import Telling
from kalyx.core.facts.source_code.source_files import find_sources
from kalyx.core.model import Note
from kalyx.core.tables.import_names import is_shared
from kalyx.core.verdicts.fit.needed import is_firm, may_be_asked_for, said_by_import
from kalyx.core.verdicts.fit.own_modules import OwnModules

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.packaging.project import Declared
    from kalyx.core.machine.interface import Machine

__all__ = ["files_of", "is_aside", "roots_of", "telling_of", "with_own"]

MOST_FILES = 5000
# What of a project is not what it runs
_ASIDE = frozenset({"tests", "test", "testing", "docs", "doc", "benchmarks"})
_ASIDE_FILES = frozenset({"setup.py", "conftest.py", "noxfile.py", "tasks.py"})


def files_of(m: Machine, paths: Sequence[str], progress: Callable[[str], object]) -> tuple[list[str], list[Note]]:
    """Return the files that some paths stand for, those in folders too, and a note where these are too many.

    Raises:
        NothingToJudge: a path is not there, or a folder holds no code.
    """
    files, notes = [], []
    for path in paths:
        if m.is_folder(path):
            found, cut = find_sources(m, path, most=MOST_FILES)
            if not found:
                raise NothingToJudge(f"{path} holds no .py and no .ipynb files.", "Name another folder.")
            if cut:
                notes.append(Note("files-cut", f"{path} holds more than is looked at; {len(found)} files were.", path))
            files += found
        elif m.is_file(path):
            files.append(path)
        else:
            raise NothingToJudge(f"{path} {m.trouble_at(path)}.", "Check the path.")
    progress(f"reading {len(files)} file{'s' if len(files) != 1 else ''} …")
    return list(dict.fromkeys(files)), notes


def telling_of(m: Machine, folders: Sequence[str], neighbours: Neighbours, declared: Sequence[Declared],
               brought_by: Callable[[str], str | None], is_beside: Callable[[str], bool]) -> Telling:
    """Return what counts of the files of some folders: what is not their own, and where Python must run them.

    What is declared in extras alone is needed only where no function has to be called first.
    """
    extras = {d.name for d in declared} - {d.name for d in declared if not d.optional}
    is_of_extra = cache(lambda module: may_be_asked_for(module, extras, brought_by))
    own = OwnModules(m, roots_of(m, folders))
    shared = cache(lambda name: is_shared(name) or neighbours.is_namespace(name))

    @cache
    def said_in(folder: str) -> Callable[[str, str | None], tuple[object, ...] | None]:
        is_own = own.beside(CodeNeeds(m.path.join(folder, "any.py")))
        return cache(lambda module, name: None if module.startswith(".") or is_own(module, name, shared)
                     else said_by_import(module, name, shared))

    def says(path: str, module: str, name: str | None) -> tuple[object, ...] | None:
        said = said_in(m.path.dirname(path))(module, name)
        return (said, is_beside(path)) if said is not None else None

    return Telling(says, lambda path, item: is_beside(path) or is_firm(m.platform, item, is_of_extra),
                   lambda path: not is_beside(path))


def roots_of(m: Machine, paths: Sequence[str]) -> list[str]:
    """Return the folders of some paths, and those of the projects that these are in."""
    found: list[str] = []
    for path in paths:
        folder = path if m.is_folder(path) else m.path.dirname(path)
        project = project_folder(m, folder)
        found += [folder, *([project[0]] if project else [])]
    return found


def with_own(m: Machine, code: Sequence[CodeNeeds], own: OwnModules, named: Sequence[str]) -> list[CodeNeeds]:
    """Return also what is needed by the files of one's own that the named ones import or run, and those by theirs."""
    found = {c.path: c for c in code}
    queue = [found[path] for path in named if path in found]
    while queue and len(found) < MOST_FILES:
        more = dict.fromkeys(path for one in queue for path in own.run_by(one) if path not in found)
        queue = read_needs_anew(m, list(more))
        found.update({one.path: one for one in queue})
    return list(found.values())


def is_aside(m: Machine, path: str, roots: Sequence[str]) -> bool:
    """Whether a file of a project is not what it runs: its tests, its documentation, how it is built."""
    root = next((r for r in roots if m.is_within(path, r)), "")
    *folders, name = path[len(root):].strip(m.path.sep).split(m.path.sep)
    return bool(_ASIDE.intersection(folders)) or name in _ASIDE_FILES or name.startswith("test_")
