"""Whether the tests notice: `python -m tests.mutate [N] [SEED]` breaks the checks and standings in N ways, one at a time.

Each mutant is one small change of one function (a comparison turned round, a condition negated, a keyword of a finding left out); it
is killed where the tests of `TESTS` fail with it. Those that survive are shown, to be judged: some change nothing that can be seen.
"""

from __future__ import annotations

import argparse
import ast
import copy
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from msgspec import Struct

ROOT = Path(__file__).parent.parent
PLACES = ("src/aiguille/baseline/checks", "src/aiguille/analysis/standing")
TESTS = ("tests/judgement", "tests/baseline", "tests/analysis/test_standing.py", "tests/analysis/test_ordering.py")
SECONDS = 400

_TURNED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
_SWAPPED = {"any": "all", "all": "any", "max": "min", "min": "max"}
_TELLING = {"severity", "where", "rules", "proof", "family", "who"}
"""Keywords of a finding whose loss somebody should notice."""


class Mutant(Struct, frozen=True):
    """One change of a module: the place of a node in its tree, and which of the things it may become."""

    path: Path
    place: int
    which: int

    def made(self) -> tuple[str, str]:
        """The change in words, and the module's text with it."""
        tree = ast.parse(self.path.read_text(encoding="utf-8"))
        node = next(n for at, n in enumerate(ast.walk(tree)) if at == self.place)
        new = list(_changed(node))[self.which]
        words = f"{self.path.relative_to(ROOT)}:{getattr(node, 'lineno', 0)}: {ast.unparse(node)[:90]}  =>  {ast.unparse(new)[:90]}"
        ast.copy_location(new, node)
        return words, ast.unparse(ast.fix_missing_locations(_Replacing(node, new).visit(tree)))


def _changed(node: ast.AST) -> Iterator[ast.AST]:
    """What a node may become."""
    new = copy.deepcopy(node)
    match new:
        case ast.Compare(ops=[op]) if type(op) in _TURNED:
            new.ops = [_TURNED[type(op)]()]
            yield new
        case ast.BoolOp(op=op):
            new.op = ast.Or() if isinstance(op, ast.And) else ast.And()
            yield new
        case ast.UnaryOp(op=ast.Not(), operand=operand):
            yield operand
        case ast.Constant(value=bool() as value):
            new.value = not value
            yield new
        case ast.Constant(value=int() as value):
            new.value = value + 1
            yield new
        case ast.Call(func=ast.Name(id=name)) if name in _SWAPPED:
            new.func = ast.Name(_SWAPPED[name], ast.Load())
            yield new
        case ast.Call(keywords=keywords):
            for at, one in enumerate(keywords):
                if one.arg in _TELLING:
                    less = copy.deepcopy(new)
                    del less.keywords[at]
                    yield less


class _Replacing(ast.NodeTransformer):
    def __init__(self, target: ast.AST, new: ast.AST) -> None:
        self.target, self.new = target, new

    def visit(self, node: ast.AST) -> ast.AST:
        return self.new if node is self.target else self.generic_visit(node)


def mutants(path: Path) -> Iterator[Mutant]:
    """Every mutant of a module's functions; what stands in their heads, decorators and annotations among it, stays as it is."""
    tree = ast.parse(path.read_text(encoding="utf-8"))
    inside = {
        node
        for function in ast.walk(tree)
        if isinstance(function, ast.FunctionDef)
        for statement in function.body
        for node in ast.walk(statement)
    }
    for place, node in enumerate(ast.walk(tree)):
        if node in inside:
            yield from (Mutant(path, place, which) for which, _ in enumerate(_changed(node)))


def is_killed(mutant: Mutant | None) -> bool:
    """Whether the tests fail, or do not end, with a mutant; or, for None, without one."""
    with tempfile.TemporaryDirectory() as folder:
        work = Path(folder)
        for name in ("src", "tests"):
            shutil.copytree(ROOT / name, work / name, ignore=shutil.ignore_patterns("node_modules", "__pycache__"))
        shutil.copy(ROOT / "pyproject.toml", work)
        if mutant is not None:
            (work / mutant.path.relative_to(ROOT)).write_text(mutant.made()[1], encoding="utf-8")
        command = [sys.executable, "-m", "pytest", "-q", "-x", "-n", "0", "-p", "no:cacheprovider", *TESTS]
        env = {**os.environ, "PYTHONPATH": str(work / "src")}
        try:
            done = subprocess.run(command, cwd=work, env=env, capture_output=True, timeout=SECONDS, check=False)
        except subprocess.TimeoutExpired:
            return True
        return done.returncode != 0


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("count", type=int, nargs="?", default=50)
    parser.add_argument("seed", type=int, nargs="?", default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--module", action="append", default=[], help="only modules whose path holds this")
    given = parser.parse_args()
    paths = [p for place in PLACES for p in sorted((ROOT / place).rglob("*.py"))]
    paths = [p for p in paths if not given.module or any(word in str(p) for word in given.module)]
    every = [one for path in paths for one in mutants(path)]
    chosen = random.Random(given.seed).sample(every, min(given.count, len(every)))
    if is_killed(None):
        print("the tests fail as they are, so that they would tell nothing of mutants")
        return 1
    with ThreadPoolExecutor(given.jobs) as pool:
        killed = 0
        for number, (one, dead) in enumerate(zip(chosen, pool.map(is_killed, chosen), strict=True), 1):
            killed += dead
            if not dead:
                print(f"survives: {one.made()[0]}", flush=True)
            if number % 10 == 0:
                print(f"{killed} of {number} killed", flush=True)
    print(f"{killed} of {len(chosen)} mutants killed, of {len(every)} there are (seed {given.seed})")
    return 0


if __name__ == "__main__":
    sys.exit(main())
