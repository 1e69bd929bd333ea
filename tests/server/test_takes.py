"""Several takes for one stream, another stream as a source, and steps that are undone."""

from datetime import timedelta

import numpy as np
from django.utils import timezone

from server.home.tidy import UNDONE
from server.jobs.orders import Tidy
from server.jobs.run import start
from server.mods.models import Swap, SwapStep
from server.mods.preparing import enqueue
from server.mods.steps import MOST
from tests.server.support import ServerTest, wav_bytes
from tests.support import noise, tone


class Takes(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.one = self.stream(self.game, "0247")
        self.mod = f"/mods/{self.game['mod_id']}"

    def take(self, hz: float, name: str) -> dict:
        made = self.upload(self.game, self.one, wav_bytes(tone(2, 48_000, hz, 2), 48_000), name)
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        return self.get(f"/swaps/{made['id']}")

    def chosen(self) -> list[int]:
        return [s["id"] for s in self.get(f"{self.mod}/swaps") if s["chosen"]]

    def built(self) -> bytes:
        """What the rebuilt game plays of the stream."""
        self.send("post", f"{self.mod}/rebuild")
        build = self.get(f"{self.mod}/build")
        self.assertEqual((build["state"], build["fresh"]), ("proved", True))
        (result,) = self.get(f"/builds/{build['id']}/results")["rows"]
        return self.get(f"/audio/{result['audio']}/pcm?start=0&frames=4000").content

    def heard(self, take: dict) -> bytes:
        return self.get(f"/audio/{take['new']['audio']}/pcm?start=0&frames=4000").content

    def test_the_chosen_take_is_what_the_mod_has(self):
        first = self.take(441, "first.wav")
        second = self.take(882, "second.wav")
        self.assertEqual(self.chosen(), [second["id"]])
        self.assertEqual((first["key"], first["state"]), (second["key"], "ready"))
        self.assertEqual(self.built(), self.heard(second))
        self.send("post", f"/swaps/{first['id']}/choose")
        self.assertEqual(self.chosen(), [first["id"]])
        self.assertFalse(self.get(f"{self.mod}/build")["fresh"])
        self.assertEqual(self.built(), self.heard(first))
        route = {s["key"]: s["text"] for s in self.get(f"/games/{self.game['id']}/route")}
        self.assertEqual(route["swap"], "1 of 1 fit")

    def test_what_goes_comes_back_as_it_was(self):
        first, second = self.take(441, "first.wav"), self.take(882, "second.wav")
        self.send("delete", f"/swaps/{second['id']}", status=204)
        self.assertEqual(self.chosen(), [first["id"]])  # what is left is chosen
        self.send("post", f"/swaps/{second['id']}/restore")
        self.assertEqual(self.chosen(), [second["id"]])
        self.send("delete", f"/swaps/{first['id']}?all_takes=true", status=204)
        self.assertEqual(self.get(f"{self.mod}/swaps"), [])
        self.send("post", f"/swaps/{first['id']}/choose", status=409)
        self.send("post", f"/swaps/{first['id']}/restore")
        self.assertEqual([s["chosen"] for s in self.get(f"{self.mod}/swaps")], [False, True])
        made = self.send("post", f"{self.mod}/put-in", {"chosen": [self.one["id"]], "source": "silence"})
        self.assertEqual((self.chosen(), made["aside"]), (made["swaps"], [second["id"]]))
        self.send("post", f"{self.mod}/take-back", made)
        self.assertEqual(self.chosen(), [second["id"]])
        made = self.send("post", f"{self.mod}/put-in", {"chosen": [self.one["id"]], "source": "none"})
        self.assertEqual(self.get(f"{self.mod}/swaps"), [])
        self.send("post", f"{self.mod}/take-back", made)
        self.assertEqual([s["chosen"] for s in self.get(f"{self.mod}/swaps")], [False, True])

    def test_a_new_take_fits_as_the_one_before_it(self):
        first = self.upload(self.game, self.one, wav_bytes(tone(2, 44_100, 441, 2), 44_100))
        steps = {"resample": True, "match": "original", "loop": "whole", "align": "pad", "fade_in": 0.5}
        self.send("patch", f"/swaps/{first['id']}", steps)
        second = self.upload(self.game, self.one, wav_bytes(tone(3, 22_050, 600, 1), 22_050))["treatment"]
        self.assertEqual([second[k] for k in ("resample", "match", "align")], [True, "original", "pad"])
        self.assertEqual((second["loop"], second["fade_in"]), ("source", 0))  # these are the file's own

    def test_another_stream_of_the_game_is_a_source(self):
        rows = self.get(f"/games/{self.game['id']}/streams?limit=200")["rows"]
        line = next(s for s in rows if s["channels"] == 1 and s["block_frames"] > 1)
        other = next(s for s in rows if s["channels"] == 2 and s["rate"] != line["rate"])
        self.send("post", f"{self.mod}/takes", {"stream": line["id"], "other": line["id"]}, 422)
        made = self.send("post", f"{self.mod}/takes", {"stream": line["id"], "other": other["id"]})
        self.assertEqual((made["source"], made["source_name"]), ("stream", other["place"]))
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        done = self.get(f"/swaps/{made['id']}")
        self.assertEqual((done["state"], done["new"]["rate"]), ("ready", line["rate"]))
        theirs = self.get(f"/audio/{done['source_audio']}/pcm?start=0&frames=2000").content
        self.assertEqual(theirs, self.get(f"/audio/{other['audio']}/pcm?start=0&frames=2000").content)

    def test_the_beats_of_both_say_where_a_loop_of_the_original_would_be(self):
        storm = self.stream(self.game, "0260")  # made at 126 beats a minute
        time = np.arange(48_000 * 20) / 48_000
        clicks = (8000 * np.exp(-(time % 0.6) * 30) * np.sin(2 * np.pi * 400 * time)).astype(np.int16)
        made = self.upload(self.game, storm, wav_bytes(clicks[:, None], 48_000), "clicks.wav")
        self.assertEqual(self.get(f"/swaps/{made['id']}/beats"), {"job": None, "original": None, "new": None})
        self.send("post", f"/swaps/{made['id']}/beats")
        found = self.get(f"/swaps/{made['id']}/beats")
        self.assertAlmostEqual(found["new"], 0.6, delta=0.003)
        self.assertAlmostEqual(found["original"] / (60 / 126) % 1, 0, delta=0.01)  # or every other of its beats
        self.send("patch", f"/swaps/{made['id']}", {"loop": "original", "loop_scale": 0.5, "resample": True})
        self.assertAlmostEqual(self.get(f"/swaps/{made['id']}")["becomes"]["loop"][0], storm["loop"][0] / 2, delta=1)

    def test_every_step_can_be_undone_and_done_again(self):
        take = self.take(441, "first.wav")
        path = f"/swaps/{take['id']}"
        self.assertEqual((take["undos"], take["redos"]), (1, 0))  # all that was fitted at once is one
        sounds = [take["new"]["audio"]]
        for steps in ({"gain_db": -3}, {"trim_start": 4000}, {"fade_out": 0.25}):
            self.send("patch", path, steps)
            sounds.append(self.get(path)["new"]["audio"])
        self.assertEqual(len(set(sounds)), 4)
        for sound in sounds[2::-1]:
            self.send("post", f"{path}/undo")
            self.assertEqual(self.get(path)["new"]["audio"].split(".")[1], sound.split(".")[1])
        self.send("post", f"{path}/redo")
        self.assertEqual(self.get(path)["new"]["audio"], sounds[1])
        self.send("patch", path, {"gain_db": -9})  # what was undone can't be done again after it
        now = self.get(path)
        self.assertEqual((now["undos"], now["redos"]), (3, 0))
        self.send("post", f"{path}/redo", status=409)
        for _ in range(3):
            self.send("post", f"{path}/undo")
        self.assertEqual(self.get(path)["state"], "open")  # as it was dropped
        self.send("post", f"{path}/undo", status=409)
        self.assertEqual(self.get(path)["redos"], 3)

    def test_what_a_job_before_it_prepared_is_not_prepared_again(self):
        made = self.take(440, "a.wav")
        own = Swap.objects.filter(pk=made["id"])
        for state, again in ((Swap.READY, False), (Swap.PREPARING, True)):
            own.update(report={}, state=state)
            enqueue(own.get())
            self.assertEqual(bool(own.get().report), again)

    def test_a_day_later_a_removed_take_goes_with_its_steps(self):
        take = self.take(441, "first.wav")
        self.send("delete", f"/swaps/{take['id']}", status=204)
        Swap.objects.update(removed=timezone.now() - UNDONE - timedelta(minutes=1))
        start(Tidy(), "tidy")
        self.assertEqual((Swap.objects.count(), SwapStep.objects.count()), (0, 0))

    def test_only_so_many_steps_are_kept(self):
        made = self.upload(self.game, self.one, wav_bytes(noise(500, 2), 48_000))
        Swap.objects.filter(pk=made["id"]).update(undos=MOST, step=MOST + 7)
        SwapStep.objects.bulk_create(
            SwapStep(swap_id=made["id"], number=n, treatment={"gain_db": -n / 100}) for n in range(7, MOST + 8)
        )
        changed = self.send("patch", f"/swaps/{made['id']}", {"gain_db": 1})
        self.assertEqual((changed["undos"], SwapStep.objects.count()), (MOST, MOST + 1))
        self.send("post", f"/swaps/{made['id']}/undo")
        self.assertEqual(self.get(f"/swaps/{made['id']}")["treatment"]["gain_db"], -(MOST + 7) / 100)

    def test_silence_that_was_not_looked_for_before_is_found(self):
        pcm = np.concatenate([np.zeros((4800, 2), np.float32), tone(1, 48_000, 441, 2)])
        made = self.upload(self.game, self.one, wav_bytes(pcm, 48_000))
        swap = Swap.objects.get(pk=made["id"])
        Swap.objects.filter(pk=swap.pk).update(info={k: v for k, v in swap.info.items() if k not in ("heads", "tails")})
        self.send("patch", f"/swaps/{made['id']}", {"cut_silence": True, "loop": "whole", "align": "pad"})
        done = self.get(f"/swaps/{made['id']}")
        self.assertEqual((done["state"], done["becomes"]["frames"]), ("ready", 47_999))  # a sine begins with 0
        self.assertIn("without what is below", next(p for p in done["points"] if p["key"] == "edit")["action"])
