"""Imports what it is told to inside a seat's own interpreter, and writes down what happened.

Runs on Python 2.7 and 3.4 onwards, and disturbs the import as little as it
can: until the import has been tried it loads nothing but modules built into
the interpreter, so that a file of the person's own that hides a module of the
standard library does to the import exactly what it would do without us.

Started as ``python FLAGS -c BOOT THIS-FILE RESULT LIMIT BEGUN START MAIN REQUEST...``.
LIMIT is in seconds, from BEGUN by the system's clock: so long is an import waited for before the stack is told.
START is the first entry of the path where that is no script's: ``behind:FOLDER`` for one after the standard library.
A request is ``MODULE[:NAME]``, an import (with a name it may begin with dots); ``@FILE``, to compile a file; or
``<FOLDER`` or ``>FOLDER``, to put a folder at the front or the end of the path.
Each result is one line of JSON in the file RESULT, written as soon as it is
known, so that a crash later loses nothing. Imported, it runs nothing: a kernel
describes itself and what it met by the functions here.
"""
import sys

PY2 = sys.version_info[0] == 2
MOST_FRAMES = 120
MOST_LOADED = 4000
MOST_CHAIN = 12
MOST_TEXT = 16384  # characters of a message: of more, its beginning and its end
MOST_NAME = 4096   # characters of a name or a path
MOST_PATH = 2000   # entries of a search path
MOST_LINE = 10 ** 9

text_type = type(u"")


def quote(text):
    """Write a string as JSON, in ASCII."""
    if isinstance(text, bytes):
        text = text.decode("utf-8", "replace")
    if not PY2 and ascii(text) == "'" + text + "'" and '"' not in text:  # most are plain
        return '"' + text + '"'
    out = []
    for char in text:
        code = ord(char)
        if char in '"\\':
            out.append("\\" + char)
        elif 32 <= code < 127:
            out.append(char)
        elif code > 0xFFFF:
            code -= 0x10000
            out.append("\\u%04x\\u%04x" % (0xD800 + (code >> 10), 0xDC00 + (code & 0x3FF)))
        else:
            out.append("\\u%04x" % code)
    return '"' + "".join(out) + '"'


def dump(value):
    """Write a value as JSON without the json module, which may be the thing under test."""
    if value is None:
        return "null"
    if value is True or value is False:
        return "true" if value else "false"
    if isinstance(value, (bytes, text_type)):
        return quote(value)
    if isinstance(value, (int, float)):
        return repr(value)
    if isinstance(value, dict):
        return "{" + ",".join(quote(str(k)) + ":" + dump(value[k]) for k in value) + "}"
    if isinstance(value, (list, tuple)):
        return "[" + ",".join(dump(item) for item in value) + "]"
    return quote(shown(value))


def shown(value):
    """Return str(value), whatever that takes."""
    try:
        return value if isinstance(value, (bytes, text_type)) else str(value)
    except BaseException:
        try:
            return text_type(value)
        except BaseException:
            return "<%s that cannot be shown>" % type(value).__name__


def text_or_none(value):
    """Return a string attribute, or None when it is something else, or longer than any name or path."""
    return value if isinstance(value, (bytes, text_type)) and len(value) <= MOST_NAME else None


def cut(text):
    """Return a text; of a long one, its beginning and its end."""
    half = MOST_TEXT // 2
    if len(text) <= MOST_TEXT:
        return text
    return text[:half] + (b" ... " if isinstance(text, bytes) else text_type(" ... ")) + text[-half:]


def first_texts(values):
    """List the strings among values, of which there may be any number."""
    found = []
    for value in values:
        if text_or_none(value) is not None:
            found.append(value)
        if len(found) >= MOST_PATH:
            break
    return found


def attributes(module):
    """Return a module's own dictionary, without waking a lazy module."""
    try:
        found = object.__getattribute__(module, "__dict__")
    except BaseException:
        return {}
    return found if isinstance(found, dict) else {}


def search_of(module):
    """Return a package's search folders."""
    try:
        return first_texts(attributes(module).get("__path__", ()))
    except BaseException:
        return []


def loader_of(module):
    """Return the name of the loader's class."""
    loader = attributes(module).get("__loader__")
    if loader is None:
        return None
    return getattr(loader, "__name__", None) or type(loader).__name__


def current_folder():
    """Return the working folder, None when it is gone."""
    try:
        if "posix" in sys.builtin_module_names:
            import posix as system
        else:
            import nt as system
        return system.getcwdu() if PY2 else system.getcwd()
    except BaseException:
        return None


def suffixes():
    """Return the endings of compiled modules that this interpreter loads."""
    try:
        import _imp
        return list(_imp.extension_suffixes())
    except ImportError:
        import imp
        return [s[0] for s in imp.get_suffixes() if s[2] == imp.C_EXTENSION]


def who():
    """Describe this interpreter as it runs here."""
    info = sys.version_info
    short = {"alpha": "a", "beta": "b", "candidate": "rc"}.get(info[3], "")
    site = sys.modules.get("site")
    known = getattr(sys, "implementation", None)
    return {
        "version": "%d.%d.%d" % tuple(info[:3]) + (short + str(info[4]) if short else ""),
        "implementation": known.name if known is not None else (
            "pypy" if hasattr(sys, "pypy_version_info") else "cpython"),
        "executable": sys.executable,
        "prefix": sys.prefix,
        "base_prefix": getattr(sys, "real_prefix", None) or getattr(sys, "base_prefix", sys.prefix),
        "path": first_texts(sys.path),
        "cwd": current_folder(),
        "cache_tag": getattr(known, "cache_tag", None),
        "cache_prefix": text_or_none(getattr(sys, "pycache_prefix", None)),
        "platform": sys.platform,
        "suffixes": suffixes(),
        "builtin": list(sys.builtin_module_names),
        "stdlib": sorted(getattr(sys, "stdlib_module_names", ())),
        "user_site": text_or_none(getattr(site, "USER_SITE", None)),
        "user_site_on": bool(getattr(site, "ENABLE_USER_SITE", False)),
        "flags": {name: int(getattr(sys.flags, name, 0) or 0) for name in (
            "isolated", "ignore_environment", "no_site", "no_user_site", "safe_path")},
        "finders": [getattr(f, "__name__", None) or type(f).__name__ for f in sys.meta_path],
    }


def frames_of(traceback):
    """List the frames of a traceback, the machinery of imports and this file left out."""
    frames = []
    while traceback is not None:
        code = traceback.tb_frame.f_code
        file = code.co_filename
        if "importlib._bootstrap" not in file and file != PROBE:
            frames.append([file, traceback.tb_lineno, code.co_name])
        traceback = traceback.tb_next
    if len(frames) > MOST_FRAMES:
        frames = frames[:20] + frames[-(MOST_FRAMES - 20):]
    return frames


def message_of(error):
    """Return an exception's message; a SyntaxError's without its place."""
    if isinstance(error, SyntaxError):
        return cut(shown(getattr(error, "msg", None) or error))
    return cut(shown(error))


def describe(error, traceback, link):
    """Write down one exception."""
    entry = {
        "type": type(error).__name__[:MOST_NAME],
        "message": message_of(error),
        "name": text_or_none(getattr(error, "name", None)),
        "path": text_or_none(getattr(error, "path", None)),
        "frames": frames_of(traceback),
        "link": link,
        "lineno": None,
    }
    if isinstance(error, SyntaxError):
        file = text_or_none(getattr(error, "filename", None))
        line = getattr(error, "lineno", None)
        entry["lineno"] = line if isinstance(line, int) and 0 < line < MOST_LINE else None
        if file is not None and entry["lineno"]:
            entry["frames"].append([file, entry["lineno"], "<module>"])
    return entry


def chain_of(error, traceback):
    """Write down an exception and those that it arose from."""
    chain, seen, link, first = [], set(), "", error
    while error is not None and id(error) not in seen and len(chain) < MOST_CHAIN:
        seen.add(id(error))
        chain.append(describe(error, traceback, link))
        cause = getattr(error, "__cause__", None)
        context = getattr(error, "__context__", None)
        if cause is not None:
            error, link = cause, "cause"
        elif context is not None:  # "suppressed": by ``from None``, which hides what it arose from
            error, link = context, "suppressed" if getattr(error, "__suppress_context__", False) else "context"
        else:
            error = None
        traceback = getattr(error, "__traceback__", None)
    if type(first).__name__ in ("ExceptionGroup", "BaseExceptionGroup"):
        chain += [describe(e, getattr(e, "__traceback__", None), "group") for e in members_of(first)]
    return chain[:MOST_CHAIN]


def members_of(error):
    """List the exceptions in a group, those in groups inside it too (PEP 654)."""
    found = []
    for inner in list(getattr(error, "exceptions", None) or ())[:MOST_CHAIN]:
        if isinstance(inner, BaseException):
            found += [inner] + members_of(inner)
    return found[:MOST_CHAIN]


def loaded_since(before, wanted):
    """Map the modules that came in to their file and search folders.

    Top-level modules, and the parents of the wanted one.
    """
    found = {}
    for name in list(sys.modules):
        module = sys.modules.get(name)
        if module is None or (name in before and name not in wanted):
            continue
        if "." in name and name not in wanted:
            continue
        if len(found) >= MOST_LOADED:
            break
        own = attributes(module)
        found[shown(name)] = [text_or_none(own.get("__file__")), search_of(module)]
    return found


def parents_of(module):
    """Return a, a.b, a.b.c of a.b.c."""
    parts = module.split(".")
    return [".".join(parts[:n]) for n in range(1, len(parts) + 1)]


def try_import(module, name):
    """Import `module`, or `name` from it, as a statement would; compile a file for ``@FILE``."""
    if module[:1] == "@":
        compile_file(module[1:])
    elif name:
        space = {"__name__": "__main__", "__package__": None}
        exec(compile("from %s import %s" % (module, name), PROBE, "exec"), space)
    else:
        __import__(module)


def compile_file(path):
    """Compile a file as Python does it: a script's bytes are checked more strictly than a module's."""
    source = open(path, "rb")
    try:
        data = source.read()
    finally:
        source.close()
    compile(data, path, "exec", 0, True)
    if not PY2 and path == sys.argv[0] and b"coding" not in b"".join(data.split(b"\n")[:2]):
        try:
            data.decode("utf-8")
        except UnicodeDecodeError as error:
            raise SyntaxError("Non-UTF-8 code starting with %r, but no encoding declared" % (
                data[error.start:error.start + 1],), (path, data[:error.start].count(b"\n") + 1, 1, ""))


def time_left(limit, begun):
    """Return the seconds that are left of a limit which began, by the system's clock, before the interpreter ran."""
    if "time" not in sys.builtin_module_names:
        return limit
    import time
    return min(limit, max(0.1, limit - (time.time() - begun)))


def watch(path, limit):
    """Have the interpreter write its stack to a file when it crashes or hangs."""
    file = open(path, "wb", 0)
    if "faulthandler" not in sys.builtin_module_names:
        return watch_by_alarm(file, limit)
    import faulthandler
    faulthandler.enable(file)
    faulthandler.dump_traceback_later(limit, exit=False, file=file)
    return file


def frames_here(frame=None):
    """List the frames of the code that is running, the machinery of imports and this file left out."""
    frames, frame = [], frame or sys._getframe(1)
    while frame is not None and len(frames) < MOST_FRAMES:
        file = frame.f_code.co_filename
        if "importlib._bootstrap" not in file and file != PROBE:
            frames.insert(0, [file, frame.f_lineno, frame.f_code.co_name])
        frame = frame.f_back
    return frames


def signals(*names):
    """Return the numbers of signals, those that this system has."""
    try:
        import _signal as table
    except ImportError:
        import signal as table
    return [getattr(table, "SIG" + n) for n in names if hasattr(table, "SIG" + n)]


class Ends(object):
    """Writes down where code ends this process itself; keeps it from ending the one that waits for the result.

    That is not the shell whose parent's place it has here: what was meant for it is written down instead.
    """

    def __init__(self, system, out):
        self.system, self.out = system, out
        self.leave, self.kill, self.killpg = system._exit, system.kill, getattr(system, "killpg", None)
        self.pid, self.parent = system.getpid(), system.getppid()
        self.fatal = signals("HUP", "INT", "QUIT", "ABRT", "KILL", "ALRM", "TERM", "STOP", "TSTP", "BREAK")
        self.ignored = signals("USR1", "USR2")
        self.all_parents = [self.parent, -1]
        try:
            self.all_parents.append(-system.getpgid(self.parent))
        except (AttributeError, OSError):
            pass
        self.put_in_place()

    def put_in_place(self):
        """Stand where the system's own functions stood."""
        stand_ins = {"_exit": lambda status: self.exit(status),
                     "kill": lambda pid, signal: self.signal(pid, signal)}
        if self.killpg is not None:
            stand_ins["killpg"] = lambda group, signal: self.signal(-group, signal)
        for name in stand_ins:
            setattr(self.system, name, stand_ins[name])
            if hasattr(sys.modules.get("os"), name):
                setattr(sys.modules["os"], name, stand_ins[name])

    def write_down(self, how):
        """Write down who ends this process; what it may have forked is not meant."""
        if self.system.getpid() == self.pid:
            self.out.write((dump({"ended_by": how, "stack": frames_here()}) + "\n").encode("ascii"))

    def exit(self, status):
        """End the process, as ``os._exit``."""
        self.write_down("os._exit")
        self.leave(status)

    def signal(self, pid, number):
        """Send a signal to a process, or to a group as its negative number."""
        if pid in self.all_parents and number in self.fatal:
            self.write_down("a signal to its parent")
            self.leave(0)
        if pid in self.all_parents and number in self.ignored:
            return None
        if pid in (self.pid, -self.pid, 0) and number in self.fatal:
            self.write_down("a signal to itself")
        return self.kill(pid, number) if pid > 0 or self.killpg is None else self.killpg(-pid, number)


def watch_by_alarm(file, limit):
    """Do what Python before 3.3 can do itself when the time is up, in the form of ``faulthandler``."""
    if "signal" not in sys.builtin_module_names:
        return file
    import signal

    def write_down(number, frame):
        file.write(b"Current thread 0x0 (most recent call first):\n")
        for place in reversed(frames_here(frame)):
            file.write(('  File "%s", line %d in %s\n' % tuple(place)).encode("utf-8", "replace"))

    try:
        signal.signal(signal.SIGALRM, write_down)
        signal.setitimer(signal.ITIMER_REAL, limit)
    except (AttributeError, ValueError):
        pass
    return file


def observe(module, name):
    """Import one module and return what happened."""
    before = set(sys.modules)
    result = {"module": module, "name": name, "outcome": "imports", "chain": []}
    try:
        try_import(module, name)
    except BaseException:
        error, traceback = sys.exc_info()[1:]
        result["outcome"] = "fails"
        result["chain"] = chain_of(error, traceback)
        del error, traceback
    found = sys.modules.get(module)
    if found is not None:
        own = attributes(found)
        result["origin"] = text_or_none(own.get("__file__"))
        result["loader"] = loader_of(found)
        result["search"] = search_of(found)
    wanted = parents_of(module)
    last = result["chain"][0] if result["chain"] else {}
    if last.get("name"):
        wanted += parents_of(shown(last["name"]))
    result["loaded"] = loaded_since(before, wanted)
    return result


def put_behind(start):
    """Put the start folder behind the standard library, before the site folders, as a notebook's kernel does."""
    if sys.path and sys.path[0] == "":
        del sys.path[0]
    places = [n for n in range(len(sys.path)) if str(sys.path[n]).endswith(("site-packages", "dist-packages"))]
    sys.path.insert(places[0] if places else 0, start)


def set_start(start, main):
    """Make sys.path and __main__ what they are when the seat runs a script, or a notebook's cells."""
    flags = sys.flags
    if start[:7] == "behind:":
        put_behind(start[7:])
    elif start and not getattr(flags, "isolated", 0) and not getattr(flags, "safe_path", 0):
        if sys.path and sys.path[0] == "":
            sys.path[0] = start
    if main:
        sys.argv[:] = [main]
        sys.modules["__main__"].__file__ = main
    else:
        sys.argv[:] = ["-c"]


def add_folders(requests):
    """Put the folders among the requests on the path; return the other requests, and what was added."""
    front, back, rest = [], [], []
    for request in requests:
        if request[:1] == "<":
            sys.path.insert(0, request[1:])
            front.insert(0, request[1:])
        elif request[:1] == ">":
            sys.path.append(request[1:])
            back.append(request[1:])
        else:
            rest.append(request)
    return rest, front, back


def main():
    """Carry out the command line (see the module's docstring)."""
    result, limit, begun, start, script = sys.argv[2:7]
    asked = sys.argv[7:]
    held = None
    sys.dont_write_bytecode = True  # looking changes nothing
    out = open(result, "wb", 0)
    set_start(start, script)
    about = who()
    asked, about["front"], about["back"] = add_folders(asked)
    out.write((dump({"who": about}) + "\n").encode("ascii"))
    held = watch(result + ".stack", time_left(float(limit), float(begun)))
    if "posix" in sys.builtin_module_names:
        import posix as system
    else:
        import nt as system
    leave = Ends(system, out).leave
    for request in asked:
        module, _, name = request.partition(":") if request[:1] != "@" else (request, "", "")
        out.write((dump({"begins": request}) + "\n").encode("ascii"))
        line = dump(observe(module, name or None))
        out.write((line + "\n").encode("ascii"))
    del held
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except BaseException:
            pass
    leave(0)


PROBE = main.__code__.co_filename
if __name__ == "kalyx_probe":
    main()
