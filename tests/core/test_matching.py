"""Files of a dropped folder and the streams they are meant for."""

import unicodedata

from django.test import SimpleTestCase

from tests.support import problem_of
from zubret_core.swap.matching import BY_ID, BY_NAME, BY_ORDER, BY_TEMPLATE, Place, match_files

PLACES = [
    Place(10 * n + k, f"{1000 + n}", "", f"voice/crew_{k}.bell", language)
    for n in range(1, 4)
    for k, language in enumerate(("English", "de-AT"))
]
LOOSE = [Place(1, "", "deck/Möwe.wav", "möwe.wav", ""), Place(2, "", "deck/horn.wav", "horn.wav", "")]


class Matching(SimpleTestCase):
    def found(self, paths: list[str], places=PLACES, **how) -> dict[str, tuple[int, str]]:
        self.matches = match_files(paths, places, **how)
        return {paths[n]: stream for n, stream in self.matches.found.items()}

    def test_ids_and_languages_are_found_wherever_they_stand(self):
        paths = [
            "en/1001.wav",
            "de/1001.flac",
            "1002_de_take3.WAV",
            "EN - 01002 - loud.wav",
            "neu\\deutsch\\1003.ogg",
            "crew_0/1003.wav",
        ]
        meant = {paths[0]: 10, paths[1]: 11, paths[2]: 21, paths[3]: 20, paths[4]: 31, paths[5]: 30}
        self.assertEqual(self.found(paths), {path: (number, BY_ID) for path, number in meant.items()})
        self.assertEqual(self.matches.without, [])

    def test_names_are_compared_in_any_script_and_spelling(self):
        paths = ["new/HORN.mp3", unicodedata.normalize("NFD", "möwe.flac")]
        self.assertEqual(self.found(paths, LOOSE), {paths[0]: (2, BY_NAME), paths[1]: (1, BY_NAME)})

    def test_doubts_and_leftovers_are_told_and_nothing_is_guessed(self):
        paths = ["1001.wav", "en/1002.wav", "en/1002 again.wav", "readme.txt", "en/9999.wav"]
        self.assertEqual(self.found(paths), {})
        self.assertEqual(self.matches.doubtful, {0: [10, 11]})  # of which language?
        self.assertEqual(self.matches.doubled, {20: [1, 2]})
        self.assertEqual((self.matches.left, self.matches.without), ([3, 4], [21, 30, 31]))

    def test_a_template_says_what_is_what(self):
        paths = ["x/1001 to 1002, de.wav", "x/1003 to 1001, en.wav", "x/1001.wav"]
        found = self.found(paths, template="* to {id}, {language}")
        self.assertEqual(found, {paths[0]: (21, BY_TEMPLATE), paths[1]: (10, BY_TEMPLATE)})
        self.assertEqual(self.matches.left, [2])
        self.assertEqual(self.found(["de/crew_0_1001.wav"], template="{bank}_{id}")["de/crew_0_1001.wav"][0], 10)
        self.assertEqual(self.found(["line 003.wav"], template="line {number}")["line 003.wav"][0], 20)
        for template in ("{id}{id}", "{size}", "plain", "{language}"):
            self.assertIn("template", problem_of(self, match_files, paths, PLACES, template).where)

    def test_by_order_numbers_count_as_numbers(self):
        paths = ["take 10.wav", "take 9.wav", "take 2.wav"]
        found = self.found(paths, PLACES[:4], by_order=True)
        self.assertEqual(found, {paths[2]: (10, BY_ORDER), paths[1]: (11, BY_ORDER), paths[0]: (20, BY_ORDER)})
        self.assertEqual((self.matches.left, self.matches.without), ([], [21]))
        self.found([*paths, "take 11.wav", "take 12.wav"], PLACES[:4], by_order=True)
        self.assertEqual(self.matches.left, [4])

    def test_two_thousand_files_for_two_thousand_streams(self):
        many = [Place(n, f"{n:05}", "", "v.bell", "en") for n in range(2_000)]
        found = self.found([f"lines/{n}_final.wav" for n in range(2_000)], many)
        self.assertEqual([number for number, _ in found.values()], list(range(2_000)))
