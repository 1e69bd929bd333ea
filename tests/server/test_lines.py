"""Many streams as spoken lines: their texts, a folder that is matched with them, and takes that are treated alike."""

import csv
import io
import json
from dataclasses import asdict

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile

from server.jobs.models import Job
from server.jobs.run import end
from server.mods import many
from server.mods.models import Swap
from server.shelf.models import Stream
from tests.core.test_levels import by_library
from tests.server.support import ServerTest, wav_bytes
from tests.support import tone
from zubret_core.base import Cancelled
from zubret_core.swap import Level

TONGUES = {"en": "English", "de": "German"}


class Lines(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.mod = f"/mods/{self.game['mod_id']}"
        self.lines = self.get(f"/games/{self.game['id']}/streams?q=crew&limit=200")["rows"]
        self.ids = sorted({s["stream_id"] for s in self.lines})

    def of(self, language: str) -> dict[str, dict]:
        """The lines of a language on the board, by their ids."""
        rows = self.get(f"{self.mod}/lines?q=crew&language={TONGUES[language]}&limit=200")["rows"]
        return {row["stream"]["stream_id"]: row for row in rows}

    def bring(self, data: bytes, search: str = "") -> dict:
        file = SimpleUploadedFile("texts.csv", data)
        return self.client.post(f"/api/games/{self.game['id']}/titles?{search}", {"file": file}).json()

    def match(self, paths: list[str], status: int = 200, **more) -> dict:
        body = {"paths": paths, "chosen": [s["id"] for s in self.lines], **more}
        return self.send("post", f"{self.mod}/matches", body, status)

    def drop(self, paths: list[str], pcm: np.ndarray, rate: int, **how) -> list[dict]:
        """Files are matched, sent and treated alike, as the screen does it."""
        data, swaps = wav_bytes(pcm, rate), []
        for found in self.match(paths)["found"]:
            file = SimpleUploadedFile(found["path"].rpartition("/")[2], data)
            form = {"stream_id": found["stream"], "file": file, "waits": "true"}
            swaps.append(self.client.post(f"/api{self.mod}/swaps", form).json()["id"])
        self.assertEqual({self.get(f"/swaps/{n}")["state"] for n in swaps}, {"held"})
        done = self.send("post", f"{self.mod}/alike", {"swaps": swaps, **how})
        self.assertEqual((done["swaps"], self.get(f"/jobs/{done['job']['id']}")["state"]), (swaps, "done"))
        return [self.get(f"/swaps/{n}") for n in swaps]

    def of_stream(self, language: str) -> list[dict]:
        return [row["stream"] for row in self.of(language).values()]

    def swap(self, number: int) -> dict:
        return self.get(f"/swaps/{number}")

    def test_texts_come_by_language_are_found_and_go_out_as_a_script(self):
        first, second = self.ids[:2]
        rows = [
            ("id", "lang", "text"),
            (first, "en", "Cast off, =now="),
            (first, "de", "Leinen los!"),
            (second, "en", "Fog."),
        ]
        out = io.StringIO(newline="")
        csv.writer(out, delimiter=";").writerows(rows)
        made = self.bring(out.getvalue().encode("utf-8-sig"))
        self.assertEqual(made["streams"], 3)
        self.assertEqual(self.of("de")[first]["stream"]["text"], "Leinen los!")
        found = self.get(f"/games/{self.game['id']}/streams?q=leinen")["rows"]
        self.assertEqual([(s["stream_id"], s["language"]) for s in found], [(first, "German")])
        self.assertEqual(self.get(f"{self.mod}/lines?spoken=yes")["total"], 3)
        # A second table fills in what it has, and an empty cell leaves what was said.
        self.bring(f"id,text,title\n{first},,first line\n{second},Thick fog.,".encode(), "language=English")
        line = self.of("en")
        self.assertEqual([line[first]["stream"][k] for k in ("text", "name")], ["Cast off, =now=", "first line"])
        self.assertEqual(line[second]["stream"]["text"], "Thick fog.")
        given = self.get(f"/games/{self.game['id']}/script?q=crew&language=English")
        script = list(csv.DictReader(io.StringIO(given.content.decode("utf-8-sig"))))
        self.assertEqual([r["text"] for r in script if r["id"] == first], ["Cast off, =now="])
        self.assertEqual(len(script), len(line))
        page = self.get(f"/games/{self.game['id']}/script?q=crew&language=German&page=true").content.decode()
        self.assertIn("Leinen los!", page)
        self.send("post", f"/sayings/{made['id']}/undo")
        self.assertEqual(self.of("de")[first]["stream"]["text"], "")

    def test_a_folder_of_two_languages_is_matched_fitted_rebuilt_and_proved(self):
        paths = [f"new/{language}/{n}_take2.wav" for n in self.ids[:4] for language in ("en", "de")]
        matches = self.match([*paths, "new/readme.wav", f"new/{self.ids[4]}.wav"])
        self.assertEqual((len(matches["found"]), matches["left"]), (8, ["new/readme.wav"]))
        self.assertEqual([d["files"] for d in matches["doubts"]], [[f"new/{self.ids[4]}.wav"]])
        pcm = tone(1.5, 44_100, 300, 2, 0.4)
        takes = self.drop(paths, pcm, 44_100, steps={"match": "number", "lufs": -23.0}, fit=True)
        self.assertEqual({t["state"] for t in takes}, {"ready"})
        for take in takes[:2]:
            new = take["new"]
            self.assertEqual((new["rate"], new["channels"]), (take["stream"]["rate"], take["stream"]["channels"]))
            heard = self.get(f"/audio/{new['audio']}/pcm?start=0&frames={new['frames']}").content
            level, peak = by_library(np.frombuffer(heard, "<i2")[:, None], new["rate"])
            self.assertAlmostEqual(level, -23, delta=0.1)
            self.assertLess(peak, -1)
        self.assertEqual({t["undos"] for t in takes}, {1})  # what was set and what was fitted are one step
        progress = {p["language"]: p for p in self.get(f"{self.mod}/lines/progress?q=crew")}
        self.assertEqual([progress[x]["fit"] for x in ("English", "German", "French")], [4, 4, 0])
        banks = {b["bank"]: b for b in self.get(f"/games/{self.game['id']}/route")[2]["lines"]}
        wanted = {"bank": "crew_de.bell", "language": "German", "lines": len(self.ids), "fit": 4}
        self.assertEqual((banks["crew_de.bell"], len(banks)), (wanted, 2))
        self.send("post", f"{self.mod}/rebuild")
        self.assertEqual(self.get(f"{self.mod}/build")["state"], "proved")
        (bank,) = (b for f in self.planned(self.mod) for b in f["banks"] if b["name"] == "crew_de.bell")
        lines, new = self.of("de").values(), {s.locator: s.prepared["size"] for s in Swap.objects.all()}
        self.assertEqual(bank["size_before"], sum(row["stream"]["stored"] for row in lines))
        now = dict(Stream.objects.filter(bank__name="crew_de.bell").values_list("locator", "stored")) | new
        self.assertEqual(bank["size"], sum(now[place] for place in now if "crew_de" in place))
        self.assertAlmostEqual(bank["seconds_before"], sum(row["stream"]["seconds"] for row in lines))

    def test_many_takes_are_treated_alike_and_all_are_undone_at_once(self):
        paths = [f"en/{n}.wav" for n in self.ids[:3]]
        takes = self.drop(paths, tone(1, 24_000, 300), 24_000, fit=True)
        chosen = [t["stream"]["id"] for t in takes]
        before = [t["new"]["audio"] for t in takes]
        self.send(
            "patch", f"/swaps/{takes[0]['id']}", {"resample": True, "gain_db": -2.0, "loop": "whole"}
        )  # does not fit
        self.send("post", f"{self.mod}/alike", {"chosen": chosen, "fit": True})
        fitted = self.get(f"/swaps/{takes[0]['id']}")
        self.assertEqual(
            (fitted["state"], fitted["treatment"]["loop"], fitted["undos"]), ("ready", "none", takes[0]["undos"] + 2)
        )
        for _ in range(2):
            self.send("post", f"/swaps/{takes[0]['id']}/undo")
        made = self.send("post", f"{self.mod}/alike", {"chosen": chosen, "steps": {"gain_db": -6.0}})
        self.assertEqual(made["swaps"], [t["id"] for t in takes])
        after = [self.get(f"/swaps/{t['id']}") for t in takes]
        self.assertEqual({t["treatment"]["gain_db"] for t in after}, {-6.0})
        self.assertFalse({t["new"]["audio"] for t in after} & set(before))
        self.send("post", f"{self.mod}/alike", {"swaps": made["swaps"], "back": True})
        self.assertEqual([self.get(f"/swaps/{t['id']}")["new"]["audio"] for t in takes], before)
        self.send("post", f"{self.mod}/alike", {"swaps": made["swaps"], "median": True})
        levels = [Level(**swap.original_level) for swap in Swap.objects.filter(pk__in=made["swaps"])]
        wanted = {self.get(f"/swaps/{t['id']}")["treatment"]["lufs"] for t in takes}
        self.assertEqual(wanted, {round(sorted(level.loudness(level.short) for level in levels)[1], 1)})
        self.send("post", f"{self.mod}/alike", {"swaps": made["swaps"], "back": True})
        self.send("post", f"{self.mod}/alike", {"chosen": [self.lines[-1]["id"]], "steps": {"gain_db": 1}}, 409)
        self.send("post", f"{self.mod}/alike", {"swaps": made["swaps"], "steps": {"gain_db": 400}}, 422)
        # What was dropped can be taken back in one go; the file before it is there again.
        again = self.drop(paths, tone(2, 24_000, 500), 24_000, fit=True)
        undone = {"swaps": [t["id"] for t in again], "aside": []}
        self.assertEqual(self.send("post", f"{self.mod}/take-back", undone), 3)
        self.assertEqual(
            list(Swap.objects.filter(chosen=True, removed=None).values_list("pk", flat=True)), made["swaps"]
        )

    def test_a_batch_that_is_cancelled_half_way_keeps_what_is_done_and_goes_on_there(self):
        data, streams = wav_bytes(tone(1, 24_000, 300), 24_000), [s["id"] for s in self.of_stream("en")]
        swaps = []
        for stream in streams:
            form = {"stream_id": stream, "file": SimpleUploadedFile("new.wav", data), "waits": "true"}
            swaps.append(self.client.post(f"/api{self.mod}/swaps", form).json()["id"])
        Swap.objects.filter(pk__in=swaps).update(state=Swap.PREPARING)
        order = many.PrepareMany(swaps, many.Alike({"gain_db": -3.0}))
        job = Job.objects.create(kind=order.kind, title="", state=Job.RUNNING, args=asdict(order))
        states = Swap.objects.filter(pk__in=swaps).order_by("pk").values_list("state", flat=True)

        def told(done: int, total: int, note: str) -> None:
            if "ready" in states.all():
                raise Cancelled

        with self.assertRaises(Cancelled):
            many.prepare_swaps(job, order, told)
        end(job, Job.CANCELLED)
        found = list(states.all())
        self.assertEqual(set(found), {"ready", "failed"})
        left = [n for n, state in zip(swaps, found, strict=True) if state == "failed"]
        swap = self.get(f"/swaps/{left[0]}")
        self.assertEqual((swap["error"]["what"], swap["treatment"]["gain_db"]), ("Preparing was cancelled.", 0.0))
        self.send(
            "post", f"{self.mod}/alike", {"swaps": left, "steps": {"gain_db": -3.0, "tempo": 1.2, "bits": "number"}}
        )
        self.assertEqual({s["treatment"]["gain_db"] for s in map(self.swap, swaps)}, {-3.0})
        self.assertIn(
            "leaves no choice of", next(p for p in self.swap(left[0])["points"] if p["key"] == "size")["action"]
        )

    def test_texts_come_from_a_table_of_the_game(self):
        entry = self.get(f"/games/{self.game['id']}/entries?q=spoken.page")["rows"][0]["id"]
        ask = lambda path, **more: self.client.post(f"/api/games/{self.game['id']}{path}", more)  # noqa: E731
        plan = ask("/titles/plan", entry=entry).json()
        self.assertEqual((plan["texts"], plan["encoding"]), (24, "Saltglass Ferry spoken texts"))
        ask("/titles?language=German", entry=entry)
        self.assertEqual(self.of("de")[self.ids[0]]["stream"]["text"], "Achterleine los.")
        self.assertEqual(self.of("en")[self.ids[0]]["stream"]["text"], "")
        plan = ask("/titles/plan", entry=entry, written="x{id}").json()
        self.assertEqual((plan["texts"], plan["unknown"]), (0, 24))
        for wrong in ({}, {"entry": entry + 10_000}, {"entry": entry, "written": "{who}"}):
            self.assertIn(ask("/titles/plan", **wrong).status_code, (404, 422), wrong)

    def test_a_treatment_under_a_name(self):
        kept = self.send("post", "/presets", {"name": " Radio ", "steps": {"match": "number", "lufs": -18}})
        self.assertEqual((kept["name"], kept["steps"]), ("Radio", {"match": "number", "lufs": -18.0}))
        self.send("post", "/presets", {"name": "Radio", "steps": {"gain_db": -3}})
        self.assertEqual([p["steps"] for p in self.get("/presets")], [{"gain_db": -3.0}])
        self.send("post", "/presets", {"name": "Wrong", "steps": {"loop": "twice"}}, 422)
        shared = json.dumps(self.get(f"/presets/{kept['id']}/file")).encode()
        self.send("delete", f"/presets/{kept['id']}", status=204)
        for data, status in ((shared, 200), (b"\x00", 422), (b'{"name": "x", "steps": {}}', 422)):
            file = SimpleUploadedFile("radio.json", data)
            self.assertEqual(self.client.post("/api/presets/file", {"file": file}).status_code, status)
        (again,) = self.get("/presets")
        self.assertEqual((again["name"], again["steps"]), ("Radio", {"gain_db": -3.0}))
        self.send("delete", f"/presets/{again['id']}", status=204)
        self.assertEqual(self.get("/presets"), [])
