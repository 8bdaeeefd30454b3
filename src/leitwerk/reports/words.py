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
    "Noise exposure": "Lärmexposition",
    "daily noise exposure": "Tages-Lärmexpositionspegel",
    "highest peak level": "höchster Spitzenschalldruckpegel",
    "equivalent level": "äquivalenter Dauerschallpegel",
    "mean of the powers": "Mittel der Leistungen",
    "highest level of a row": "höchster Pegel einer Zeile",
    "measured": "gemessen",
    "duration of the shift": "Dauer der Schicht",
    "dose": "Dosis",
    "LEX,8h = LAeq + 10 lg (shift / 8 h), ISO 9612. U is one-sided, 95 %, of the meter and its position; "
    "how much one shift differs from another is not in it.": "LEX,8h = LAeq + 10 lg (Schicht / 8 h), "
    "ISO 9612. U gilt einseitig, 95 %, für Messgerät und Messort; wie sehr sich Schichten unterscheiden, ist "
    "nicht darin.",
    "With all that is missing as loud as the loudest row": "Alles Fehlende so laut wie die lauteste Zeile",
    "Limits": "Grenzen",
    "limit": "Grenze",
    "within": "innerhalb",
    "intervals": "Intervalle",
    "lowest, highest": "kleinster, größter",
    "share within": "Anteil innerhalb",
    "at least": "mindestens",
    "An interval that is missing is within no limit, and outside of none: with too many of them the outcome "
    "is unknown.": "Ein fehlendes Intervall liegt weder innerhalb noch außerhalb: sind es zu viele, ist das "
    "Ergebnis unbekannt.",
    "Totals": "Summen",
    "highest mean of": "höchstes Mittel von",
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
