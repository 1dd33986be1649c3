"""Runs a piece of code as its seat would, and shows the value of its last expression.

Runs on Python 2.7 and 3.4 onwards. Started as ``python FLAGS -c BOOT THIS-FILE
START CODE``: START is the first entry of the path where the seat runs a script.
"""
import sys


def split_last(code):
    """Return the code without its last expression, and that expression; None where there is none."""
    try:
        import ast
        tree = ast.parse(code)
        if not tree.body or not isinstance(tree.body[-1], ast.Expr):
            return compile(code, "<ask>", "exec"), None
        last = ast.Expression(tree.body.pop().value)
        return compile(tree, "<ask>", "exec"), compile(last, "<ask>", "eval")
    except ImportError:  # a file of the person's own has that name
        return compile(code, "<ask>", "exec"), None


def main():
    """Carry out the command line."""
    start, code = sys.argv[2:4]
    flags = sys.flags
    if start[:7] == "behind:":  # as a notebook's kernel has it: after the standard library
        if sys.path and sys.path[0] == "":
            del sys.path[0]
        places = [n for n in range(len(sys.path)) if str(sys.path[n]).endswith(("site-packages", "dist-packages"))]
        sys.path.insert(places[0] if places else 0, start[7:])
    elif start and not getattr(flags, "isolated", 0) and not getattr(flags, "safe_path", 0) \
            and sys.path and sys.path[0] == "":
        sys.path[0] = start
    sys.argv[:] = ["-c"]
    sys.dont_write_bytecode = True
    space = {"__name__": "__main__"}
    first, last = split_last(code)
    exec(first, space)
    if last is not None:
        value = eval(last, space)
        if value is not None:
            sys.stdout.write(repr(value) + "\n")
            sys.stdout.flush()


main()
