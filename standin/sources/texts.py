"""What the crew says, by language, in the order of its lines."""

LINES = {
    "en": [
        "Cast off the stern line.",
        "Slow ahead, and mind the buoy to port.",
        "Fog coming down from the north. Sound the horn.",
        "All passengers below, please. It will be a rough night.",
        "I have crossed this water a thousand times, and it still surprises me.",
        "Light on the starboard bow!",
        "Engine room, what was that noise?",
        "There is the harbour. We made it.",
    ],
    "fr": [
        "Larguez l'amarre arrière.",
        "En avant lente, attention à la bouée à bâbord.",
        "Le brouillard descend du nord. Faites sonner la corne.",
        "Tous les passagers à l'intérieur. La nuit sera rude.",
        "J'ai traversé ces eaux mille fois, et elles me surprennent encore.",
        "Une lumière à tribord!",
        "Salle des machines, quel est ce bruit?",
        "Voilà le port. Nous y sommes.",
    ],
    "de": [
        "Achterleine los.",
        "Langsam voraus, und Vorsicht mit der Boje an Backbord.",
        "Nebel zieht von Norden auf. Gebt Signal mit dem Horn.",
        "Alle Fahrgäste bitte unter Deck. Es wird eine rauhe Nacht.",
        "Tausendmal bin ich hier übergesetzt, und doch staune ich noch.",
        "Licht an Steuerbord voraus!",
        "Maschinenraum, was war das für ein Geräusch?",
        "Da ist der Hafen. Wir haben es geschafft.",
    ],
}
