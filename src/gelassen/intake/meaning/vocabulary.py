"""Words of the trade in English, German, French and Spanish, as stems without accents.

A stem matches the start of a word, and a short stem only a whole word. German joins words
("Kerntemperatur"), so stems that are often the second part also match inside a word.
"""

import re

# What is measured. The first match wins, so the more specific words come first.
QUANTITIES: dict[str, tuple[str, ...]] = {
    "margin": ("distance to", "headroom", "margin", "abstand", "marge", "margen", "reserve bis", "distance a la limite"),
    "throttle": (
        "throttl", "drossel", "bridage", "bride par", "estrangul", "limitacion termica", "limite thermique atteinte",
        "thermal limit", "power limit reached", "power limit exceeded", "limit reached", "limit exceeded", "held back",
        "limited by", "thermal event", "powerlimit erreicht", "limit erreicht", "begrenzt", "ralenti",
    ),
    "duty": ("duty", "pwm", "tastgrad", "tastverhaltnis", "rapport cyclique", "ciclo de trabajo", "ansteuerung", "commande"),
    "noise": ("noise", "sound", "schall", "gerausch", "laerm", "larm", "lautstarke", "bruit", "sonore", "ruido", "spl"),
    "flow": ("flow", "durchfluss", "volumenstrom", "debit", "caudal", "flujo"),
    "clock": ("clock", "freq", "takt", "horloge", "cadence", "reloj", "frecuencia"),
    "power": (
        "power", "leistung", "puissance", "potencia", "consumption", "verbrauch", "consommation", "consumo", "watt",
        "leistungsaufnahme", "tdp",
    ),
    "load": (
        "load", "usage", "utiliz", "utilis", "auslastung", "charge", "carga", "nutzung", "busy", "util", "last",
        "uso", "occupation", "ocupacion",
    ),
    "temperature": ("temperat", "temp", "tmp", "celsius", "fahrenheit", "warme", "thermal", "thermo"),
    "speed": ("rpm", "drehzahl", "vitesse", "velocidad", "regime", "tach", "speed", "geschwindigkeit"),
    "voltage": ("voltage", "spannung", "tension", "voltaje", "vcore", "volt"),
    "current": ("current", "strom", "courant", "corriente", "intensite"),
    "energy": ("energy", "energie", "energia"),
    "rate": ("fps", "frame rate", "frames per", "framerate", "images par seconde", "bilder pro sekunde", "throughput",
             "durchsatz", "score", "work rate", "iterations per"),
    "count": ("count", "anzahl", "nombre", "cantidad", "zahler", "errors", "fehler"),
}  # fmt: skip

# Where it is measured.
PARTS: dict[str, tuple[str, ...]] = {
    "pump": ("pump", "pompe", "bomba"),
    "fan": ("fan", "lufter", "luefter", "ventilat", "ventilad", "blower", "geblase", "geblaese", "fans"),
    "room": ("room", "ambien", "ambian", "raum", "umgebung", "zimmer", "piece", "habitacion", "sala", "cuarto", "chamber", "klimakammer"),
    "coolant": (
        "coolant", "kuhlmittel", "kuehlmittel", "kuhlwasser", "kuehlwasser", "kuhlflussigkeit", "wasser", "water",
        "liquid", "refrigerant", "liquide", "liquido", "eau", "agua", "loop",
    ),
    "vrm": (
        "vrm", "vrms", "regulator", "spannungswandler", "spannungsregler", "wandler", "mosfet", "mosfets", "mos", "vr",
        "regulateur", "regulador", "power stage",
    ),
    "gpu": ("gpu", "graphic", "grafik", "graphique", "grafica", "vga", "video card"),
    "cpu": ("cpu", "processor", "prozessor", "processeur", "procesador", "apu", "package", "paket", "pkg", "cores", "vcore"),
    "drive": ("drive", "ssd", "hdd", "nvme", "disk", "festplatte", "laufwerk", "disque", "disco", "unidad"),
    "memory": ("memory", "dimm", "ram", "dram", "speicher", "memoire", "memoria", "vram"),
    "wall": (
        "wall", "socket power", "mains", "steckdose", "netzteil", "netzleistung", "prise", "secteur", "enchufe", "psu",
        "supply", "netz", "plug", "alimentation", "fuente", "outlet power",
    ),
    "case": ("case", "chassis", "enclosure", "cabinet", "gehause", "gehaeuse", "schrank", "boitier", "caja", "gabinete", "armario"),
    "board": ("board", "motherboard", "mainboard", "hauptplatine", "carte mere", "placa base", "chipset", "pch", "systin"),
}  # fmt: skip

# What carries the current of a small board, where no other part is named.
INPUT = ("input", "vin", "iin", "vbus", "ibus", "usb", "dc", "adapter", "system")
CHIP = ("soc", "chip", "die")  # the only chip of a small board
CORE = ("core", "kern", "coeur", "nucleo", "c")  # "c" only with a number: "C3"
PACKAGE = (
    "package",
    "paket",
    "pkg",
    "total",
    "gesamt",
    "gesamte",
    "global",
    "globale",
    "die",
    "complete",
)
HOT_SPOT = ("hot spot", "hotspot", "heisspunkt", "point chaud", "punto caliente", "junction")
OUT = (
    "out",
    "outlet",
    "return",
    "rucklauf",
    "ruecklauf",
    "auslass",
    "austritt",
    "sortie",
    "retour",
    "salida",
    "retorno",
)
IN = (
    "in",
    "inlet",
    "supply",
    "vorlauf",
    "einlass",
    "eintritt",
    "entree",
    "aller",
    "entrada",
    "intake",
)
INLET_AIR = ("inlet", "intake", "zuluft", "ansaugluft", "entree", "admission", "entrada")
LIMIT = (
    "limit", "limite", "grenze", "grenzwert", "obergrenze", "critical", "crit", "kritisch", "critique", "critico",
    "threshold", "schwelle", "seuil", "umbral", "target", "setpoint", "soll", "consigne", "objetivo", "warning",
    "maximum allowed", "max allowed", "pl1", "pl2",
)  # fmt: skip
AVERAGE = (
    "avg",
    "average",
    "mean",
    "mittel",
    "mittelwert",
    "durchschnitt",
    "moyenne",
    "moyen",
    "moy",
    "media",
    "promedio",
)
LOWEST = ("min", "minimum", "minimal", "kleinste", "minimo", "lowest", "minimale")
HIGHEST = (
    "max",
    "maximum",
    "maximal",
    "hottest",
    "highest",
    "hochste",
    "hoechste",
    "heisseste",
    "maximo",
    "maximale",
    "peak",
)
FILLERS = frozenset(
    [
        "of", "the", "de", "du", "des", "la", "le", "les", "der", "die", "das", "el", "del", "los", "am", "im", "in", "a",
        "d", "l", "au", "sensor", "reading", "value", "wert", "messwert", "mesure", "valor", "celsius", "fahrenheit",
        "actual", "aktuell", "ist", "degree", "degrees", "grad", "level", "pegel", "niveau", "nivel", "air", "luft", "aria",
        "aire", "probe", "fuhler", "sonde", "sonda", "effective", "luft", "number", "no", "nr", "deg", "f",
    ]
)  # fmt: skip


def found(words: tuple[str, ...], text: str) -> bool:
    """Return whether any of the words stands in a folded text."""
    return any(_pattern(word).search(text) for word in words)


def taken_out(words: tuple[str, ...], text: str) -> str:
    """Return the text without these words."""
    for word in sorted(words, key=len, reverse=True):
        text = _pattern(word).sub(" ", text)
    return " ".join(text.split())


# Stems that are the second part of joined words.
_INSIDE = frozenset(
    [
        "temperat", "leistung", "drehzahl", "takt", "freq", "auslastung", "spannung", "strom", "durchfluss", "lufter",
        "luefter", "kern", "wandler", "verbrauch", "wasser",
    ]
)  # fmt: skip
_PATTERNS: dict[str, re.Pattern[str]] = {}


def _pattern(word: str) -> re.Pattern[str]:
    if word not in _PATTERNS:
        left = "" if word in _INSIDE else "(?<![a-z])"
        # The whole joined word is removed, so that its ending does not remain.
        right = "[a-z]*" if len(word) >= 4 else "(?![a-z])"
        _PATTERNS[word] = re.compile(left + re.escape(word) + right)
    return _PATTERNS[word]
