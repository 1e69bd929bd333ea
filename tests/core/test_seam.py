"""The seam of a loop in numbers: made loops whose seams are known."""

import numpy as np
from django.test import SimpleTestCase

from tests.support import noise, tone
from zubret_core.audio.seam import Seam, seam_of
from zubret_core.base import Loop

RATE = 48_000


class Seams(SimpleTestCase):
    def of(self, pcm: np.ndarray, start: int, end: int) -> Seam:
        return seam_of(lambda at, frames: pcm[at : at + frames], RATE, len(pcm), Loop(start, end))

    def test_whole_periods_have_a_seam_that_nobody_hears(self):
        seam = self.of(tone(2, RATE, 480, 2), 9600, 57_600)  # 480 periods of 100 frames
        self.assertAlmostEqual(seam.step_db, 0, delta=0.01)
        self.assertLess((seam.click_db, seam.spectrum_db), (0.5, 0.5))
        np.testing.assert_allclose(seam.heard[480:], seam.goes_on, atol=1e-4)
        beside = self.of(tone(2, RATE, 480, 2), 9630, 57_630)
        np.testing.assert_allclose(beside.ups, ((9600, 9700), (57_600, 57_700)), atol=1)

    def test_half_a_period_clicks(self):
        seam = self.of(tone(2, RATE, 480, 1), 9600, 57_625)  # from the crest to zero
        self.assertGreater(seam.click_db, 30)
        self.assertLess(self.of(tone(2, RATE, 480, 1), 9600, 57_601).click_db, seam.click_db - 12)

    def test_a_step_in_level_and_another_sound_are_told(self):
        pcm = np.concatenate([tone(1, RATE, 480), tone(1, RATE, 480) / 2])
        self.assertAlmostEqual(self.of(pcm, 4800, 91_200).step_db, 20 * np.log10(2), delta=0.05)
        hiss = np.concatenate([tone(1, RATE, 300), (noise(RATE) / 32768).astype(np.float32)])
        seam = self.of(hiss, 4800, 91_200)
        self.assertGreater(seam.spectrum_db, seam.usual_db + 10)

    def test_what_is_short_or_silent_has_numbers_too(self):
        for pcm, start, end in ((np.zeros((9000, 2)), 10, 9000), (noise(40), 0, 3), (noise(900), 899, 900)):
            seam = self.of(np.asarray(pcm), start, end)
            self.assertTrue(np.isfinite([seam.step_db, seam.click_db, seam.spectrum_db, seam.usual_db]).all())
