"""The texts of reports in their languages: English, and what it is in German."""

from __future__ import annotations

from collections.abc import Callable

LANGUAGES = ("en", "de")
_GERMAN = {
    "Report": "Bericht",
    "Transport of a load": "Transport einer Ladung",
    "Recording": "Aufzeichnung",
    "Energy and cost": "Energie und Kosten",
    "Flow and totals": "Durchfluss und Summen",
    "Noise exposure of a shift": "Lärmexposition einer Schicht",
    "Survey of supply": "Netzanalyse",
    "Verdict": "Urteil",
    "passed": "bestanden",
    "not passed": "nicht bestanden",
    "unknown": "unbekannt",
    "PASSED": "BESTANDEN",
    "NOT PASSED": "NICHT BESTANDEN",
    "UNKNOWN": "UNBEKANNT",
    "device": "Gerät",
    "setup": "Setup",
    "from": "von",
    "to": "bis",
    "rows": "Zeilen",
    "every": "alle",
    "gaps": "Lücken",
    "calibration": "Kalibrierung",
    "group": "Gruppe",
    "alarm": "Alarm",
    "condition": "Bedingung",
    "allowed": "erlaubt",
    "times outside": "Mal außerhalb",
    "time outside": "Zeit außerhalb",
    "longest": "am längsten",
    "worst": "schlimmster Wert",
    "outcome": "Ergebnis",
    "times": "Mal",
    "Summary": "Zusammenfassung",
    "channel": "Kanal",
    "unit": "Einheit",
    "good": "gut",
    "missing": "fehlend",
    "min": "min",
    "mean": "Mittel",
    "max": "max",
    "std dev": "Std.-Abw.",
    "mean kinetic temperature": "mittlere kinetische Temperatur",
    "total": "Summe",
    "in bands": "in Bändern",
    "Over time": "Verlauf",
    "Events": "Ereignisse",
    "begin": "Beginn",
    "end": "Ende",
    "duration": "Dauer",
    "no alarm tripped": "kein Alarm ausgelöst",
    "Notes": "Bemerkungen",
    "Signature": "Unterschrift",
    "date": "Datum",
    "name": "Name",
    "signature": "Unterschrift",
    "hash of the data": "Prüfwert der Daten",
    "hash of the setup": "Prüfwert des Setups",
    "page": "Seite",
    "nothing is judged": "nichts wird beurteilt",
    "with gaps: what is within them is not known": "mit Lücken: was in ihnen liegt, ist nicht bekannt",
    "times are those of": "Zeiten sind die von",
    "further ones are left out": "weitere sind weggelassen",
    "above": "über",
    "below": "unter",
    "outside": "außerhalb",
    "inside": "innerhalb",
    "change": "Änderung",
    "in": "in",
    "difference": "Differenz",
}


def translator(language: str) -> Callable[[str], str]:
    """What gives a text of a report in a language; a text that has none stays in English."""
    if language == "de":
        return lambda text: _GERMAN.get(text, text)
    return lambda text: text


def known_texts() -> list[str]:
    """The texts that have a translation."""
    return list(_GERMAN)
