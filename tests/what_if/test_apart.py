"""Cases worked out by other processes, or a cluster: the same to the last character as by this one alone."""

from typing import Any

from tests.support import InFolder
from tests.what_if.test_stress import PER_ZONE

# Twenty-eight hosts: the loss of a zone overloads the other's gateway. A range, and growth that passes its limit.
BUSY: dict[str, Any] = {
    **PER_ZONE,
    "workloads": {"work": {"subnets": ["app", "app-b"], "hosts": 28}},
    "flows": {"talk": {"growth_per_month": 0.1, "out_gib_per_month": {"low": 50, "likely": 100, "high": 300}}},
}
WORDS = (
    ("stress",),
    ("stress", "--pairs", "--explain"),
    ("stress", "--months", "9", "--growth", "0.05"),
    ("compare", "--explain"),
    ("compare", "--confidence", "0.9"),
)


class Apart(InFolder):
    def said(self, words: tuple[str, ...], workers: str) -> tuple[int, str]:
        done = self.program(*words, "--format", "json", "--workers", workers)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        return done.returncode, done.stdout

    def test_processes_say_the_same(self) -> None:
        self.estate(BUSY)
        for words in WORDS:
            with self.subTest(words=words):
                self.assertEqual(self.said(words, "3"), self.said(words, "1"))
        self.assertIn("overloads gate", self.said(("stress",), "2")[1])
        self.assertIn("zone b lost: gate", self.said(WORDS[1], "2")[1])
        for workers in ("0", "many"):
            self.assertEqual(self.program("stress", "--workers", workers).returncode, 2)

    def test_a_cluster_says_the_same(self) -> None:
        from distributed import LocalCluster

        self.estate(BUSY)
        with LocalCluster(
            n_workers=2, threads_per_worker=1, processes=False, dashboard_address=None, host="127.0.0.1", protocol="tcp"
        ) as cluster:
            for words in WORDS[:3]:
                with self.subTest(words=words):
                    self.assertEqual(self.said(words, cluster.scheduler_address), self.said(words, "1"))
