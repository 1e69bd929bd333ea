"""Every answer takes the same number of queries, however many rows there are."""

import xxhash
from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from bench.game import loose_sounds
from server.bulk import bulk_insert
from server.games.models import Comparison, Game, Key, KeyChoice, NameList, Survey, SurveyFile
from server.jobs.models import Job
from server.jobs.run import start
from server.layouts.models import LayoutVersion, UserLayout
from server.mods.models import Build, EntryFile, Mod, Swap, Trial
from server.shelf.models import Archive, Bank, Entry, Stream, pack_locator
from server.surveys.contents import ReadContents
from server.surveys.rows import entry_row
from server.surveys.surveying import SurveyOrder
from tests.server.support import ServerTest
from zubret_core.container import Entry as CoreEntry
from zubret_core.swap import Treatment

BY_BYTES = {
    "bytes",
    "distance",
    "drafts",
    "find",
    "look",
    "pcm",
    "strings",
    "tries",
    "unknown",
    "rank",
    "ribbon",
    "peaks",
    "spectrum",
    "wav",
    "wave",
}
BY_BYTES |= {"{number}", "{slug}", "csv", "export", "figures", "file", "notes", "picture", "plan", "same"}
"""The last word of addresses that read files; what they ask of the database is one row."""


class Constant(ServerTest):
    def fill(self, n: int) -> dict[str, int]:
        """A game with n of everything that comes in numbers; the numbers for addresses."""
        game = Game.objects.create(name=f"game of {n}", folder=f"/nowhere/{n}")
        mod, now = Mod.objects.create(game=game, name="mod"), timezone.now()
        surveys = [Survey.objects.create(game=game, finished=now, files=n) for _ in range(n)]
        swaps, error = [], {"what": "broken", "where": "", "next": "mend it"}
        for k in range(n):
            archive = Archive.objects.create(
                game=game, path=f"a{k}.crate", size=9, mtime_ns=k, kind="layout", complete=True, digested=True
            )
            entries = [CoreEntry(f"e{i}", i, 9, 9, "plain", 5) for i in range(3)]
            list(bulk_insert(Entry, Entry.BULK, [entry_row(archive.pk, i, e, e.path) for i, e in enumerate(entries)]))
            bank = Bank.objects.create(archive=archive, entry_index=0, entry_path="e0", name="e0", language="English")
            Bank.objects.create(archive=archive, entry_index=1, entry_path="e1", name="e1", error=error)
            locator = pack_locator(archive.path, (("e0", 0),), str(k), 0)
            Stream.objects.create(
                archive=archive, bank=bank, locator=locator, ordinal=0, stream_id=str(k), codec="pcm16", rate=8000,
                channels=1, frames=8000, seconds=1.0, block_size=0, at=0, stored=9,
            )  # fmt: skip
            for survey in surveys[-2:]:
                SurveyFile.objects.create(survey=survey, path=archive.path, size=9, mtime_ns=k, archive=archive)
            swaps.append(
                Swap.objects.create(
                    mod=mod,
                    locator=locator,
                    source_name="x",
                    source_path="/x",
                    state="open",
                    treatment=Treatment().as_dict(),
                )
            )
            EntryFile.objects.create(
                mod=mod, archive=archive.path, path="e2", index=2, label="e2", shown_in=archive.path, source_name="f",
                source_path="/f", digest="d",
            )  # fmt: skip
            key = Key.objects.create(game=game, label=f"k{k}", secret=f"{k:02x}")
            KeyChoice.objects.create(game=game, path=archive.path, name="k", key=key)
            NameList.objects.create(game=game, path=archive.path, title="names", text="a\nb")
            Job.objects.create(game=game, kind="survey", title="x", state=Job.DONE)
            layout = UserLayout.objects.create(name=f"l{k}", draft="zubret: 1")
            LayoutVersion.objects.create(layout=layout, slug=f"own-{n}-{k}", text=f"zubret: 1\nid: own-{n}-{k}\n")
        point = {"label": "x", "expected": "", "found": "", "ok": True, "doubt": False, "file": "a0.crate"}
        build = Build.objects.create(
            game=mod.game, mods=[mod.pk], state=Build.PROVED, made_of={str(s.pk): "x" for s in swaps}, proof=[point] * n,
            files=[{"path": f"a{k}.crate", "size": 9} for k in range(n)],
        )  # fmt: skip
        for swap in swaps:
            trial = Trial.objects.create(build=build, cue="x", title=swap.source_name, loops=1)
        old, new = (s.pk for s in surveys[-2:])
        Comparison.objects.create(old=surveys[-2], new=surveys[-1], ready=True)
        return {
            "game_id": game.pk, "mod_id": mod.pk, "old": old, "new": new, "swap_id": swap.pk, "trial_id": trial.pk,
            "stream_id": Stream.objects.latest("pk").pk, "job_id": Job.objects.latest("pk").pk, "layout_id": layout.pk,
            "build_id": build.pk,
        }  # fmt: skip

    def test_queries_do_not_follow_rows(self):
        counts: dict[str, list[int]] = {}
        paged: dict[str, list[int]] = {}
        paths = self.client.get("/api/openapi.json").json()["paths"]
        asked = [p for p, how in paths.items() if "get" in how and p.rsplit("/", 1)[-1] not in BY_BYTES]
        for n in (10, 1000):
            numbers = self.fill(n)
            for path in asked:
                extra = {"stream_id": numbers["stream_id"]} if path.endswith("neighbours") else {}
                extra |= {"file": "a0.crate"} if path.endswith("proof") else {}
                with CaptureQueriesContext(
                    connection,
                ) as seen:
                    answer = self.client.get(path.format(**numbers), extra)
                self.assertEqual(
                    answer.status_code, 503 if path.endswith("health") else 200, (path, answer.content[:300])
                )
                counts.setdefault(path, []).append(len(seen))
                if "limit" in [x["name"] for x in paths[path]["get"].get("parameters", [])]:
                    some = self.client.get(path.format(**numbers), {**extra, "limit": 3, "offset": 1}).json()
                    rows = some if isinstance(some, list) else some["rows"]
                    paged.setdefault(path, []).append(len(rows))
        self.assertEqual({p: c for p, c in counts.items() if c[1] > c[0]}, {})
        self.assertGreater(len(counts), 20)
        self.assertEqual({p: n for p, n in paged.items() if max(n) > 3}, {})
        self.assertGreater(len([p for p, n in paged.items() if n[1] == 3]), 6)

    def test_reading_contents_does_not_ask_for_each_file(self):
        counts = []
        for n in (10, 300):
            folder = self.root / f"loose-{n}"
            loose_sounds(folder, n)
            game = Game.objects.create(name="loose", folder=str(folder))
            start(SurveyOrder(), "survey", game)
            Archive.objects.filter(game=game).update(digested=False)
            Entry.objects.filter(archive__game=game).update(digest=None)
            with CaptureQueriesContext(connection) as seen:
                start(ReadContents(game.current_survey().pk), "contents", game)
            counts.append(len(seen))
            self.assertFalse(Archive.unread().filter(game=game).exists())
            for entry in Entry.objects.filter(archive__game=game).select_related("archive"):
                data = (folder / entry.archive.path).read_bytes()
                self.assertEqual(entry.digest % (1 << 64), xxhash.xxh3_64_intdigest(data))
        self.assertLess(counts[1], counts[0] + 10)
