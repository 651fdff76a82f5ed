"""The package as a whole: examples in docstrings, exported names, what a start-up imports."""

import doctest
import importlib
import pkgutil
import subprocess
import sys
import unittest
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
