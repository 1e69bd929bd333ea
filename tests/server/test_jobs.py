"""Jobs: every outcome ends up in the row, and the row tells it to people."""

import sqlite3
import time
import zlib
from dataclasses import dataclass
from typing import ClassVar

from django.test import TransactionTestCase

from server.jobs import run as jobs
from server.jobs.models import Job
from server.jobs.orders import Order
from zubret_core.base import Cancelled, Passes, ZubretError
from zubret_core.source import BytesSource
from zubret_core.source.packing import unpacked


@dataclass(frozen=True)
class TestOrder(Order):
    kind: ClassVar[str] = "test"


@dataclass(frozen=True)
class Answer:
    answer: int


class Outcomes(TransactionTestCase):
    def setUp(self):
        self.kinds = dict(jobs._kinds)
        self.addCleanup(lambda: (jobs._kinds.clear(), jobs._kinds.update(self.kinds)))

    def ran(self, function) -> Job:
        """A job of a kind made for this test, after it has been through the worker's code."""
        jobs.work("quick")(function)
        job = jobs.start(TestOrder(), "A test")
        job.refresh_from_db()
        self.assertIsNotNone(job.finished)
        return job

    def test_done_with_its_result_and_progress(self):
        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            progress(3, 10, "a third")
            row = Job.objects.get(pk=job.pk)
            self.assertEqual((row.state, row.done, row.total, row.note), ("running", 3, 10, "a third"))
            return Answer(42)

        job = self.ran(work)
        self.assertEqual((job.state, job.result, job.note, job.error), ("done", {"answer": 42}, "", None))

    def test_while_nothing_new_is_said_the_words_say_how_long(self):
        said = []

        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            progress(3, 10, "closing a file")
            for _ in range(24):
                time.sleep(0.1)
                said.append(Job.objects.get(pk=job.pk).note)
            return None

        jobs.work("quick")(work)
        with self.settings(JOBS_AT_ONCE=False):
            job = jobs.start(TestOrder(), "A test")
        jobs.begin(job.pk, "a worker")
        first, second, *_ = dict.fromkeys(said)
        self.assertEqual(first, "closing a file")
        self.assertRegex(second, r"^closing a file, [1-9] s$")
        job.refresh_from_db()
        self.assertEqual((job.state, job.note), ("done", ""))

    def test_an_error_of_the_core_keeps_its_three_parts(self):
        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            raise ZubretError("It is broken.", file="a.crate", offset=4096, field="head.count", next="Mend it.")

        job = self.ran(work)
        self.assertEqual(job.state, "failed")
        self.assertEqual(
            job.error, {"what": "It is broken.", "where": "a.crate, byte 4,096, field head.count", "next": "Mend it."}
        )

    def test_a_fault_of_ours_is_told_without_a_traceback(self):
        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            raise sqlite3.DatabaseError("disk image is malformed")

        with self.assertLogs("zubret.jobs", "ERROR"):
            job = self.ran(work)
        self.assertEqual(job.state, "failed")
        self.assertIn("Zubret made a mistake here (DatabaseError", job.error["what"])
        self.assertNotIn("File ", job.error["what"])

    def test_a_cancel_is_seen_at_the_next_progress(self):
        steps = []

        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            Job.objects.filter(pk=job.pk).update(cancel=True)
            steps.append("before")
            progress(1, 2, "working")
            steps.append("after")
            return None

        job = self.ran(work)
        self.assertEqual((job.state, steps), ("cancelled", ["before"]))

    def test_the_bar_of_several_passes_never_runs_back_and_what_is_deep_inside_is_told(self):
        seen, packed = [], BytesSource(zlib.compress(bytes(40 << 20)), "a large entry")

        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            reporter = progress
            bar = Passes(progress, 1, 3)
            for step, done, total in (
                (bar[0], 5, 10),
                (bar[0], 1, 10),
                (bar[0], 0, 0),
                (bar[1], 1, 2),
                (bar[0], 9, 10),
            ):
                reporter.last = 0.0  # each is written down
                step(done, total, "at it")
                seen.append(Job.objects.values_list("done", "note").get(pk=job.pk))
            reporter.last = 0.0
            reporter(1, 8, "once more")  # it counts anew, and no pass says so
            seen.append(Job.objects.values_list("done", "note").get(pk=job.pk))
            reporter.last = 0.0
            pieces = unpacked("zlib", packed, 40 << 20)
            next(pieces)
            seen.append(Job.objects.values_list("done", "note").get(pk=job.pk))
            Job.objects.filter(pk=job.pk).update(cancel=True)
            reporter.last = 0.0
            list(pieces)  # is cancelled in the middle
            seen.append("the end")
            return None

        job = self.ran(work)
        shares = [round(done / Passes.UNITS, 3) for done, _ in seen[:6]]
        self.assertEqual(shares, [0.125, 0.125, 0.125, 0.625, 0.625, 0.625])
        notes = [note for _, note in seen[:6]]
        self.assertEqual(notes, ["at it", "at it, 10.0 %", "at it", "at it", "at it, 90.0 %", "once more, 12.5 %"])
        self.assertEqual((seen[6], len(seen)), ((seen[4][0], "unpacking a large entry, 2.5 %"), 7))
        self.assertEqual(job.state, "cancelled")

    def test_a_job_that_was_cut_off_is_not_done_by_a_late_worker(self):
        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            Job.objects.filter(pk=job.pk).update(state=Job.CUT_OFF)
            progress(1, 2, "working")
            return None

        jobs.work("quick")(work)
        job = jobs.start(TestOrder(), "A test")
        job.refresh_from_db()
        self.assertEqual(job.state, "cut off")

    def test_a_cancelled_job_that_waits_is_never_begun(self):
        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            raise AssertionError("begun")

        jobs.work("quick")(work)
        job = Job.objects.create(kind="test", title="x", state=Job.CANCELLED, cancel=True)
        jobs.begin(job.pk, "")
        job.refresh_from_db()
        self.assertEqual(job.state, "cancelled")

    def test_what_a_failed_job_left_is_removed(self):
        import tempfile
        from pathlib import Path

        folder = Path(tempfile.mkdtemp())

        def work(job: Job, order: TestOrder, progress) -> Answer | None:
            Job.objects.filter(pk=job.pk).update(scratch=str(folder))
            (folder / "half.part").write_bytes(b"half")
            raise Cancelled

        job = self.ran(work)
        self.assertEqual((job.state, folder.exists()), ("cancelled", False))
