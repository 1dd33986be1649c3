"""The page of `kalyx fit`."""

from __future__ import annotations

from kalyx.show.parts import notes

TYPE_CHECKING = False
if TYPE_CHECKING:
    from kalyx.core.answers.fit import FitAnswer
    from kalyx.core.model import FitOfEnvironment, Need
    from kalyx.show.page import Page

__all__ = ["lay_out"]

MOST_ENVIRONMENTS = 8
MOST_LACKS = 4
MOST_ABSENT = 10
MOST_NEEDS = 12


def lay_out(page: Page, answer: FitAnswer, *, verbose: bool) -> None:
    """Lay out ``fit``: which fits, what is needed, each environment, and what to do."""
    fitting = [e for e in answer.environments if e.fits]
    told = [path for path in answer.paths if path not in answer.untold]
    what = told[0] if len(told) == 1 else f"{len(told)} paths"
    but = f" Of {', '.join(answer.untold)} it cannot be told." if answer.untold else ""
    if fitting:
        here = "; it is used here" if fitting[0].used_here else ""
        more = f", and so can {len(fitting) - 1} more" if len(fitting) > 1 else ""
        page.title(answer.status, f"{fitting[0].environment.path} can run {what}{more}{here}.{but}")
    else:
        count = len(answer.environments)
        page.title(answer.status, f"None of the {count} environments here can run {what} as it is." if count > 1 else
                   f"{answer.environments[0].environment.path} cannot run {what} as it is." if count else
                   f"No environment is known that could run {what}.")
    page.part("what it needs")
    _needs(page, answer, verbose=verbose)
    page.part("which environments have it")
    shown = answer.environments if verbose else answer.environments[:MOST_ENVIRONMENTS]
    for one in shown:
        _environment(page, one, verbose=verbose)
    left = len(answer.environments) - len(shown)
    if left:
        page.say(f"{left} more lack as much or more; --verbose lists them.", "quiet", 4, "· ")
    page.remedies(answer.remedies)
    notes(page, answer.notes)


def _needs(page: Page, answer: FitAnswer, *, verbose: bool) -> None:
    if answer.python is not None:
        page.say(f"Python {answer.python.specifier}, for {answer.python.because}" if "," not in answer.python.specifier
                 else f"Python {answer.python.specifier}: {answer.python.because}", indent=4)
    asked = [n for n in answer.needs if verbose or (not n.is_standard and not n.optional)]
    for need in asked if verbose else asked[:MOST_NEEDS]:
        page.say(_need(need), indent=4)
        if verbose and need.asked_by:
            page.whole(f"{need.asked_by[0].path}, line {need.asked_by[0].line}", "path", 6)
    if len(asked) > MOST_NEEDS and not verbose:
        page.say(f"and {len(asked) - MOST_NEEDS} more", "quiet", 4)
    if not asked and answer.python is None:
        page.say("nothing but the standard library", indent=4)


def _need(need: Need) -> str:
    if need.module is None:
        return f"{need.requirement}, which the project asks " + (
            "conda for: looked for in its environments alone" if need.by_conda else "for")
    whole = need.requirement or need.module
    of = f", of {whole}" if whole != need.module else ""
    ways = dict.fromkeys((one.when_there, " and ".join(a.module for a in one.others))
                         for line in need.only_where for one in line if one.others)
    absent, there = ([said for when, said in ways if when == wanted] for wanted in (False, True))
    instead = f", where {' or '.join(absent)} will not do" if absent else ""
    instead += f", where {' or '.join(there)} is there" if there else ""
    return f"{need.module}{of}{instead}" + (" (optional)" if need.optional else "")


def _environment(page: Page, one: FitOfEnvironment, *, verbose: bool) -> None:
    environment = one.environment
    mark = "+" if one.fits else "-"
    said = [f"Python {environment.python_version or '?'}"]
    if not one.python_fits:
        said.append("which it does not run on" if one.interpreter and one.interpreter.works
                    else "which does not run")
    if one.kernels:
        said.append(f"kernel {', '.join(one.kernels)}")
    if one.used_here:
        said.append("used here")
    if one.proven is not None:
        said.append("all of it was imported" if one.proven else "it breaks there")
    page.say(f"{mark} {environment.name:<24} {', '.join(said)}", indent=2)
    page.whole(environment.path, "path", 6)
    absent = [lack.module or lack.distribution or "" for lack in one.lacks if lack.found is None and lack.distribution]
    lacks = [f"it lacks {', '.join(absent[:MOST_ABSENT])}{' …' if len(absent) > MOST_ABSENT else ''}"] if absent else []
    lacks += [lack.because for lack in one.lacks if lack.found is not None or not lack.distribution]
    lacks += one.breaks
    for because in lacks if verbose else lacks[:MOST_LACKS]:
        page.say(because, indent=6)
    if len(lacks) > MOST_LACKS and not verbose:
        page.say(f"and {len(lacks) - MOST_LACKS} more", "quiet", 6)
