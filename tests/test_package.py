"""The package as a whole: examples in docstrings, exported names, what a start-up imports."""

import ast
import doctest
import importlib
import pkgutil
import re
import subprocess
import sys
import unittest
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType

import fenrask

MODULES = sorted(one.name for one in pkgutil.walk_packages(fenrask.__path__, "fenrask.") if "__main__" not in one.name)


def _all_modules() -> list[ModuleType]:
    return [importlib.import_module(name) for name in MODULES]


def load_tests(loader: unittest.TestLoader, tests: unittest.TestSuite, _: object) -> unittest.TestSuite:
    for module in _all_modules():
        suite = doctest.DocTestSuite(module)
        if suite.countTestCases():
            tests.addTests(suite)
    return tests


class Exports(unittest.TestCase):
    def test_every_exported_name_exists_and_every_module_says_what_it_is(self) -> None:
        for module in _all_modules():
            with self.subTest(module.__name__):
                self.assertTrue(module.__doc__)
                missing = [name for name in getattr(module, "__all__", []) if not hasattr(module, name)]
                self.assertEqual(missing, [])


class Docstrings(unittest.TestCase):
    SOURCE = Path(fenrask.__file__).parent
    BESIDE = {"python", "erfcx", "retrials", "WORKLOAD", "SECTION_csv"}
    """Of libraries, documents and patterns."""

    def test_what_they_put_in_backticks_exists(self) -> None:
        """Fields, functions, keys, options and files: a name that a rename has left behind is nowhere else."""
        told: dict[str, str] = {}
        known: set[str] = set()
        for file in self.SOURCE.rglob("*.py"):
            tree = ast.parse(file.read_text(encoding="utf-8"))
            texts = {
                id(node.value): node.value.value
                for node in ast.walk(tree)
                if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
            }
            for text in filter(lambda one: isinstance(one, str), texts.values()):
                for quoted in re.findall(r"`([^`]+)`", str(text)):
                    told |= dict.fromkeys(re.findall(r"[A-Za-z_]\w*", quoted), f"{file.name}: {quoted}")
            known |= {*file.relative_to(self.SOURCE).with_suffix("").parts}
            known |= {word for node in ast.walk(tree) if id(node) not in texts for word in self.words(node)}
        for file in self.SOURCE.rglob("*.yaml"):
            known |= {*re.findall(r"[A-Za-z_]\w*", file.read_text(encoding="utf-8"))}
        self.assertGreater(len(told), 200)
        self.assertEqual({word: where for word, where in told.items() if word not in known | self.BESIDE}, {})

    @staticmethod
    def words(node: ast.AST) -> list[str]:
        """The names that a piece of the program has, and those in its texts."""
        named = [getattr(node, key, None) for key in ("id", "attr", "arg", "name", "module")]
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            named.append(node.value)
        return [word for one in named if isinstance(one, str) for word in re.findall(r"[A-Za-z_]\w*", one)]


class Names(unittest.TestCase):
    """What is named says what it is; what goes together is one value."""

    nodes: dict[Path, list[ast.AST]]

    @classmethod
    def setUpClass(cls) -> None:
        files = sorted(Path(fenrask.__file__).parent.rglob("*.py"))
        cls.nodes = {file: [*ast.walk(ast.parse(file.read_text(encoding="utf-8")))] for file in files}

    def test_one_is_a_name_in_comprehensions_alone(self) -> None:
        for file, nodes in self.nodes.items():
            targets = (node.target for node in nodes if isinstance(node, ast.comprehension))
            within = {id(inner) for target in targets for inner in ast.walk(target)}
            named = [
                node.lineno
                for node in nodes
                if (isinstance(node, ast.arg) and node.arg == "one")
                or (isinstance(node, ast.Name) and node.id == "one" and isinstance(node.ctx, ast.Store))
                if id(node) not in within
            ]
            with self.subTest(file.name):
                self.assertEqual(named, [])

    def test_nothing_is_kept_by_where_it_lies_in_memory(self) -> None:
        """What is gone may lie where something else does afterwards: keys are values, or the things themselves."""
        for file, nodes in self.nodes.items():
            calls = (node for node in nodes if isinstance(node, ast.Call) and isinstance(node.func, ast.Name))
            with self.subTest(file.name):
                self.assertEqual([call.lineno for call in calls if getattr(call.func, "id", "") == "id"], [])

    def functions(self) -> Iterator[tuple[Path, ast.FunctionDef]]:
        """All but commands, whose options they take, and compiled loops, which take no values of Python's."""
        for file, nodes in self.nodes.items():
            for node in nodes if "kernels" not in file.parts else ():
                if isinstance(node, ast.FunctionDef) and not (file.parent.name == "cli" and node.name == "command"):
                    yield file, node

    def test_no_function_takes_more_than_five_things(self) -> None:
        for file, node in self.functions():
            taken = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
            with self.subTest(file=file.name, function=node.name):
                self.assertLessEqual(len([one for one in taken if one.arg not in ("self", "cls")]), 5)

    def test_no_function_is_longer_than_sixty_lines(self) -> None:
        for file, node in self.functions():
            with self.subTest(file=file.name, function=node.name):
                self.assertLessEqual((node.end_lineno or 0) - node.lineno + 1, 60)


class StartUp(unittest.TestCase):
    HEAVY = {"pandas", "matplotlib", "scipy", "highspy", "numba", "pyarrow"}

    def _loaded(self, *arguments: str) -> set[str]:
        command = [sys.executable, "-X", "importtime", "-m", "fenrask", *arguments]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        return {line.rsplit("|", 1)[-1].strip().split(".")[0] for line in done.stderr.splitlines()}

    def test_help_loads_nothing_heavy_nor_numpy(self) -> None:
        self.assertEqual(self._loaded("--help") & {*self.HEAVY, "numpy", "yaml"}, set())

    def test_check_loads_nothing_heavy(self) -> None:
        self.assertEqual(self._loaded("check", "--rules") & self.HEAVY, set())
