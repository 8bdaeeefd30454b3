"""Functions of time, as slowly and plainly as they can be written: one sample after the other, in loops.

Each takes times, values (NaN where bad) and the gap, and gives a list of results. Nothing here knows
the package under test. A time that falls begins everything anew.
"""

import math
from datetime import UTC, datetime, timedelta

CLOSE_S = 1e-6


def anew(function):
    """Applied to each stretch in which the time never falls."""

    def whole(t, x, *parameters):
        result, first = [], 0
        for k in range(1, len(t) + 1):
            if k == len(t) or t[k] < t[k - 1]:
                result += function(t[first:k], x[first:k], *parameters)
                first = k
        return result

    return whole


def good_before(t, x, k, gap):
    """The last good sample before k, None when there is none near enough."""
    for j in range(k - 1, -1, -1):
        if not math.isnan(x[j]):
            return j if t[k] - t[j] <= gap else None
    return None


def window(t, k, width):
    return [j for j in range(k + 1) if t[j] > t[k] - width + CLOSE_S]


@anew
def moving(t, x, width, kind):
    result = []
    for k in range(len(t)):
        places = [j for j in window(t, k, width) if not math.isnan(x[j])]
        weights = [min(t[j] - t[j - 1], width) if j else 0.0 for j in places]
        values = [x[j] for j in places]
        if not places:
            result.append(math.nan)
        elif kind in {"min", "max"}:
            result.append({"min": min, "max": max}[kind](values))
        elif sum(weights) == 0.0:
            result.append(math.nan if math.isnan(x[k]) else 0.0 if kind == "std" else x[k])
        else:
            mean = math.fsum(w * v for w, v in zip(weights, values, strict=True)) / math.fsum(
                weights
            )
            squares = math.fsum(w * (v - mean) ** 2 for w, v in zip(weights, values, strict=True))
            result.append(mean if kind == "mean" else math.sqrt(squares / math.fsum(weights)))
    return result


@anew
def rate(t, x, gap):
    result = []
    for k in range(len(t)):
        j = good_before(t, x, k, gap)
        known = j is not None and not math.isnan(x[k]) and t[k] > t[j]
        result.append((x[k] - x[j]) / (t[k] - t[j]) if known else math.nan)
    return result


@anew
def before(t, x, gap, width):
    result = []
    for k in range(len(t)):
        found = math.nan
        old = [j for j in range(k + 1) if t[j] <= t[k] - width + CLOSE_S]
        if old and t[k] - t[old[-1]] <= width + gap:
            at = old[-1]
            if math.isnan(x[at]):
                at = good_before(t, x, at, gap)
            found = math.nan if at is None else x[at]
        result.append(found)
    return result


def midnight(seconds, zone):
    day = datetime.fromtimestamp(seconds, zone).replace(hour=0, minute=0, second=0, microsecond=0)
    return day.astimezone(UTC).timestamp()


@anew
def total(t, x, gap, zone=None):
    result, running = [], 0.0
    for k in range(len(t)):
        begin = midnight(t[k], zone) if zone else -math.inf
        if zone and k and midnight(t[k - 1], zone) != begin:
            running = 0.0
        j = good_before(t, x, k, gap)
        if j is not None and not math.isnan(x[k]):
            a, xa = t[j], x[j]
            if a < begin:
                xa += (x[k] - x[j]) * (begin - t[j]) / (t[k] - t[j])
                a = begin
            running += (xa + x[k]) / 2 * (t[k] - a)
        result.append(math.nan if math.isnan(x[k]) else running)
    return result


@anew
def count(t, x, gap):
    result, running = [], 0
    for k in range(len(t)):
        j = good_before(t, x, k, gap)
        running += j is not None and x[k] == 1.0 and x[j] == 0.0
        result.append(math.nan if math.isnan(x[k]) else running)
    return result


@anew
def increase(t, x, size):
    """A gap loses nothing: the counter has gone on."""
    result, running = [], 0.0
    for k in range(len(t)):
        j = good_before(t, x, k, math.inf)
        if j is not None and not math.isnan(x[k]):
            if x[k] >= x[j]:
                running += x[k] - x[j]
            else:  # set back to 0, or rolled over
                running += x[k] if x[j] - x[k] < size / 2 else x[k] - x[j] + size
        result.append(math.nan if math.isnan(x[k]) else running)
    return result


@anew
def duration(t, x, gap):
    result, since = [], 0.0
    for k in range(len(t)):
        j = good_before(t, x, k, gap)
        if x[k] == 1.0 and (j is None or x[j] != 1.0):
            since = t[k]
        result.append(math.nan if math.isnan(x[k]) else t[k] - since if x[k] == 1.0 else 0.0)
    return result


@anew
def hold(t, x, width):
    result = []
    for k in range(len(t)):
        j = k if not math.isnan(x[k]) else good_before(t, x, k, width)
        result.append(math.nan if j is None else x[j])
    return result


@anew
def between(t, x, width):
    """On a line between the good samples about a moment ``width`` ago, no further apart than that."""
    result = []
    for k in range(len(t)):
        moment, found = t[k] - width, math.nan
        old = [j for j in range(k + 1) if not math.isnan(x[j]) and t[j] <= moment + CLOSE_S]
        new = [j for j in range(k + 1) if not math.isnan(x[j]) and t[j] > moment + CLOSE_S]
        if old and abs(t[old[-1]] - moment) <= CLOSE_S:
            found = x[old[-1]]
        elif old and new and t[new[0]] - t[old[-1]] <= width + CLOSE_S:
            a, b = old[-1], new[0]
            found = x[a] + (x[b] - x[a]) * (moment - t[a]) / (t[b] - t[a])
        result.append(found)
    return result


@anew
def gaps(t, x, gap, zone=None):
    """The time in gaps that are too long for a total, since midnight where days begin anew."""
    result, running = [], 0.0
    for k in range(len(t)):
        begin = midnight(t[k], zone) if zone else -math.inf
        if zone and k and midnight(t[k - 1], zone) != begin:
            running = 0.0
        if not math.isnan(x[k]):
            j = good_before(t, x, k, math.inf)
            if j is not None and t[k] - t[j] > gap:
                running += t[k] - max(t[j], begin)
        result.append(math.nan if math.isnan(x[k]) else running)
    return result


@anew
def low_pass(t, x, gap, constant):
    result, level = [], math.nan
    for k in range(len(t)):
        if math.isnan(x[k]):
            result.append(math.nan)
            continue
        j = good_before(t, x, k, gap)
        level = (
            x[k] if j is None else level + (x[k] - level) * (1 - math.exp((t[j] - t[k]) / constant))
        )
        result.append(level)
    return result


@anew
def settled(t, x, width):
    result, shown, since, last = [], math.nan, -math.inf, math.nan
    for k in range(len(t)):
        if not (x[k] == last or (math.isnan(x[k]) and math.isnan(last))):
            since, last = t[k], x[k]
        if math.isnan(x[k]) or t[k] - since >= width:
            shown = x[k]
        result.append(shown)
    return result


def a_day_of(zone, times):
    """Times that lie about a midnight."""
    start = datetime(2026, 3, 28, 23, 50, tzinfo=zone)
    return [(start + timedelta(seconds=s)).timestamp() for s in times]
