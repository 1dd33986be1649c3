"""What ``fit`` says beside its answer: what could not be read, and what runs otherwise than it looks."""

from __future__ import annotations

from kalyx.core.facts.packaging.requirements import are_compatible
from kalyx.core.facts.search_path.layers import pythonpath_of
from kalyx.core.model import Note
from kalyx.core.quoting import join_words
from kalyx.core.verdicts.fit.own_modules import OwnModules

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kalyx.core.facts.environments.neighbours import Neighbours
    from kalyx.core.facts.source_code.code_needs import CodeNeeds
    from kalyx.core.machine.interface import Machine
    from kalyx.core.model import FitOfEnvironment, Need

__all__ = ["at_odds", "broken_there", "own_elsewhere", "path_changes", "unparsed", "unread_code", "without_pythonpath"]


def unread_code(code: Sequence[CodeNeeds]) -> list[Note]:
    """Say what could not be parsed, and why."""
    tail = "; its imports were looked for line by line"
    return [Note("source-unread", f"{c.path}: {c.trouble}{tail if c.imports else ''}.", c.path)
            for c in code if c.trouble]


def unparsed(code: Sequence[CodeNeeds]) -> list[Note]:
    """Say how many files were looked at without being parsed."""
    count = sum(not c.is_parsed for c in code)
    return [Note("not-parsed", f"{count} of {len(code)} files were not parsed: by their texts they need nothing that "
                 "the others do not. A file among them that is no Python at all is not seen.")] if count else []


def at_odds(need: Need) -> Note:
    """Say that no version of a distribution is what the project asks for and has what its code imports."""
    if not are_compatible(line.specifier for line in need.lines):
        asked = " and ".join(f"{line.specifier} ({line.place.path}, line {line.place.line})"
                             for line in need.lines if line.specifier)
        return Note("at-odds", f"No {need.distribution} is all that the project asks for: {asked}.",
                    need.lines[0].place.path)
    part = need.parts[0]
    place = part.place.path
    wanted = need.specifier or "any version"
    return Note("at-odds", f"No {need.distribution} is both what the project asks for ({wanted}) "
                f"and what has {part.name} ({part.specifier}), which {place}, line {part.place.line}, imports; "
                f"kalyx why {place} says what it is called now, where that is known.", place)


def broken_there(found: Sequence[FitOfEnvironment], paths: Sequence[str], shell: str) -> list[Note]:
    """Say what tells more of an environment that has everything, and breaks nevertheless; of the best of them."""
    one = next((f.environment.path for f in found if f.breaks and not f.lacks), "")
    line = join_words(("kalyx", "why", *paths, "--at", f"env:{one}"), shell)
    return [Note("breaks-there", f"{line} says why it breaks there, and what mends it.", one)] if one else []


def path_changes(code: Sequence[CodeNeeds], most: int = 3) -> list[Note]:
    """Say where code has modules from that cannot be told: of some that nothing here has, these may be such."""
    return [Note("path-changed", f"{c.path}, line {c.unread[0]}, changes the search path in a way that only running it "
                 "shows; what it imports from there counts as lacking.", c.path) for c in code if c.unread][:most]


def own_elsewhere(m: Machine, neighbours: Neighbours, own: OwnModules, named: Sequence[CodeNeeds],
                  found: Sequence[FitOfEnvironment]) -> list[Note]:
    """Say which of one's own modules a named file does not find, however well the best environment fits."""
    best = next((f.interpreter for f in found if f.fits and f.interpreter is not None), None)
    if best is None:
        return []
    on_path, sites = OwnModules(m, ()).folders_with(pythonpath_of(m, m.env, m.cwd)), neighbours.visible_sites(best)
    notes = []
    for code in named:
        if m.path.basename(code.path).startswith(("test_", "conftest.")):  # what runs these adds folders of its own
            continue
        away = {name: folder for name, folder in sorted(own.away_from(code).items())
                if not neighbours.any_holds(sites, name) and not on_path(name)}
        if away:
            notes.append(Note("own-elsewhere", f"{code.path} imports {', '.join(away)}, which is one's own, in "
                              f"{', '.join(dict.fromkeys(away.values()))}. Python does not look there for a file that "
                              "is run by its path, and nothing in the best environment leads there: kalyx why "
                              f"{code.path} says how to have it found.", code.path))
    return notes


def without_pythonpath(m: Machine, needs: Sequence[Need]) -> tuple[list[Need], list[Note]]:
    """Return the needs that this shell's PYTHONPATH does not meet whatever environment runs the code, and a note."""
    folders = OwnModules(m, ()).folders_with(pythonpath_of(m, m.env, m.cwd))
    met = {n.module: found for n in needs if n.module and not n.is_standard and (found := folders(n.module))}
    says = (f"PYTHONPATH has {', '.join(sorted(met))} (in {', '.join(sorted(set(met.values())))}), whichever "
            "environment runs the code from this shell; what is started without that variable lacks it.")
    return [n for n in needs if n.module not in met], [Note("pythonpath-brings", says)] if met else []
