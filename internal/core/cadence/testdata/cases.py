"""Works out when cadences are due, apart from the program: minute by minute.

    python3 cases.py > cases.tsv

Every minute of real time is looked at in turn, and what a clock on the wall shows
then is compared with what the cadence names. Only Python's own library is used.
"""
import calendar
import random
from datetime import date, datetime, timedelta, timezone
from zoneinfo import ZoneInfo

UTC = timezone.utc
MINUTE = timedelta(minutes=1)
DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"]


def last_day(d):
    return calendar.monthrange(d.year, d.month)[1]


def working(d):
    return d.weekday() < 5


def nth_working(d, n):
    days = [x for x in range(1, last_day(d) + 1) if working(date(d.year, d.month, x))]
    return d.day == (days[n - 1] if n > 0 else days[-1])


def nth_weekday(d, weekday, n):
    days = [x for x in range(1, last_day(d) + 1) if date(d.year, d.month, x).weekday() == weekday]
    if n > len(days):
        return False
    return d.day == (days[n - 1] if n > 0 else days[-1])


def monday(d):
    return d - timedelta(days=d.weekday())


def cron_field(field, low, high, names=()):
    out = set()
    for part in field.split(","):
        part, _, step = part.partition("/")
        if part == "*":
            a, b = low, high
        else:
            a, _, b = part.partition("-")
            number = lambda s: names.index(s.lower()) + low if s.lower() in names else int(s)
            a = number(a)
            b = number(b) if b else (high if step else a)
        out.update(range(a, b + 1, int(step or 1)))
    return out


# A rule tells whether something is due on a date, and at which times.
def at(*times):
    return [tuple(int(x) for x in t.split(":")) for t in times]


RULES = []


def rule(phrase, falls, times, once=True):
    RULES.append((phrase, falls, set(times), once))


rule("every day at 08:00", lambda d, a: True, at("8:00"))
rule("every day at 01:30", lambda d, a: True, at("1:30"))
rule("daily at 2:30", lambda d, a: True, at("2:30"))
rule("every day at midnight", lambda d, a: True, at("0:00"))
rule("every day at 0:15 and 23:45", lambda d, a: True, at("0:15", "23:45"))
rule("every day at 1:45, 2:00 and 3:15", lambda d, a: True, at("1:45", "2:00", "3:15"))
rule("every weekday at 16:30", lambda d, a: working(d), at("16:30"))
rule("every working day at 8", lambda d, a: working(d), at("8:00"))
rule("every Sunday at 2 am", lambda d, a: d.weekday() == 6, at("2:00"))
rule("Mondays and Thursdays at noon", lambda d, a: d.weekday() in (0, 3), at("12:00"))
rule("every weekend at 10", lambda d, a: d.weekday() > 4, at("10:00"))
rule("every 3 days at 6:05", lambda d, a: (d - a).days % 3 == 0, at("6:05"))
rule("every other day at 19:00", lambda d, a: (d - a).days % 2 == 0, at("19:00"))
rule("every 2 weeks on Friday at 17:00", lambda d, a: d.weekday() == 4 and (monday(d) - monday(a)).days // 7 % 2 == 0, at("17:00"))
rule("every 3 weeks on Monday and Sunday at 1:10", lambda d, a: d.weekday() in (0, 6) and (monday(d) - monday(a)).days // 7 % 3 == 0, at("1:10"))
rule("every month on the 1st and 15th at 9:00", lambda d, a: d.day in (1, 15), at("9:00"))
rule("on the last day of the month at 23:30", lambda d, a: d.day == last_day(d), at("23:30"))
rule("every month on the 31st at 7:00", lambda d, a: d.day == 31, at("7:00"))
rule("every month on the 29th, 30th and last day at 0:30", lambda d, a: d.day in (29, 30, last_day(d)), at("0:30"))
rule("on the last Friday of the month at 5 pm", lambda d, a: nth_weekday(d, 4, -1), at("17:00"))
rule("on the first Monday of every month at 8:15", lambda d, a: nth_weekday(d, 0, 1), at("8:15"))
rule("every month on the fifth Sunday at 2:15", lambda d, a: nth_weekday(d, 6, 5), at("2:15"))
rule("on the last weekday of the month at 18:40", lambda d, a: nth_working(d, -1), at("18:40"))
rule("every month on the third working day at 9:00", lambda d, a: nth_working(d, 3), at("9:00"))
rule("every 3 months on the 1st at 6:00", lambda d, a: d.month % 3 == 1 and d.day == 1, at("6:00"))
rule("every 2 months on the last Sunday at 2:30", lambda d, a: d.month % 2 == 1 and nth_weekday(d, 6, -1), at("2:30"))


def cron(line):
    minute, hour, dom, month, dow = line.split()
    minutes, hours = cron_field(minute, 0, 59), cron_field(hour, 0, 23)
    doms = cron_field(dom, 1, 31)
    months = cron_field(month, 1, 12, [m.lower() for m in calendar.month_abbr[1:]])
    dows = {d % 7 for d in cron_field(dow, 0, 7, ["sun", "mon", "tue", "wed", "thu", "fri", "sat"])}

    def falls(d, a):
        by_dom, by_dow = d.day in doms, (d.weekday() + 1) % 7 in dows
        any_day = dom.startswith("*") or dow.startswith("*")
        return d.month in months and (by_dom and by_dow if any_day else by_dom or by_dow)

    rule("cron " + line, falls, [(h, m) for h in hours for m in minutes], once=not hour.startswith("*"))


for line in ["30 16 * * 1-5", "*/20 * * * *", "0 * * * *", "15 */2 * * *", "30 1,2 * * *", "*/30 0-3 * * sun", "0 9 1,15 * fri",
             "5 4 29 feb *", "0 0 13 * 5", "45 23 31 12 *", "0 7 * * 7", "10 2 */2 * *", "0 12 1-7 * 1", "59 23 * jun-aug 0,6"]:
    cron(line)


def wall_due(zone, falls, times, once, anchor, start, count, limit):
    """Goes through real minutes, and tells when the wall shows a due time."""
    out, seen = [], set()
    now = start.replace(second=0, microsecond=0) - timedelta(days=2)
    end = now + timedelta(days=limit)
    before = (now - MINUTE).astimezone(zone).replace(tzinfo=None)
    days = {}
    while now < end and len(out) < count:
        shown = now.astimezone(zone).replace(tzinfo=None, fold=0)
        due = False

        def named(w):
            if w.date() not in days:
                days[w.date()] = falls(w.date(), anchor)
            return days[w.date()] and (w.hour, w.minute) in times

        # What the wall left out, when clocks went forward.
        if once and shown - before > MINUTE:
            w = before + MINUTE
            while w < shown:
                if named(w) and w not in seen:
                    seen.add(w)
                    due = True
                w += MINUTE
        if named(shown) and not (once and shown in seen):
            seen.add(shown)
            due = True
        if due and now > start:
            out.append(now)
        before = shown
        now += MINUTE
    return out


SPOTS = [  # a zone, and a moment near which something happens there
    ("Europe/Lisbon", "2027-03-27T12:00"), ("Europe/Lisbon", "2026-10-24T12:00"), ("Europe/Lisbon", "2028-02-27T10:00"),
    ("America/New_York", "2026-03-07T12:00"), ("America/New_York", "2026-10-31T20:00"),
    ("Australia/Lord_Howe", "2026-04-04T00:00"), ("Australia/Lord_Howe", "2026-10-03T00:00"),
    ("Asia/Kathmandu", "2026-02-26T22:00"), ("Asia/Kolkata", "2025-12-30T23:59"), ("Pacific/Chatham", "2026-09-26T00:00"), ("Pacific/Chatham", "2026-04-04T00:00"),
    ("Africa/Cairo", "2024-04-25T12:00"), ("Africa/Cairo", "2024-10-31T12:00"), ("America/Sao_Paulo", "2018-11-03T12:00"), ("America/Sao_Paulo", "2019-11-02T12:00"),
    ("Pacific/Apia", "2011-12-29T09:00"), ("America/Mexico_City", "2022-10-29T12:00"), ("America/Mexico_City", "2023-04-01T12:00"),
    ("Asia/Tehran", "2022-03-20T12:00"), ("Asia/Tehran", "2023-03-20T12:00"), ("Antarctica/Troll", "2026-03-28T12:00"), ("Antarctica/Troll", "2026-10-24T12:00"),
    ("Europe/Dublin", "2026-10-24T12:00"), ("Asia/Pyongyang", "2018-05-03T12:00"), ("America/St_Johns", "2010-11-06T12:00"), ("UTC", "2026-12-30T00:00"),
    ("Africa/Casablanca", "2024-03-09T12:00"), ("America/Santiago", "2026-09-05T12:00"),
]


def main():
    chance = random.Random(20261127)
    print("# phrase, zone, after, counted from (an anchor), next due moments; made by cases.py")
    made = 0
    for zone_name, when in SPOTS:
        zone = ZoneInfo(zone_name)
        start = datetime.fromisoformat(when).replace(tzinfo=UTC)
        anchor_date = (start - timedelta(days=40)).astimezone(zone).date()
        anchor = datetime(anchor_date.year, anchor_date.month, anchor_date.day, tzinfo=zone).astimezone(UTC)
        for phrase, falls, times, once in chance.sample(RULES, 13):
            many = 8 if "*/" in phrase or "0 * *" in phrase else 5
            found = wall_due(zone, falls, times, once, anchor_date, start, many, 400)
            if "*" in phrase.split()[-4 if phrase.startswith("cron") else 0] and not once:
                found = found[:8]
            if not found:
                continue
            print("\t".join([phrase, zone_name, start.strftime("%Y-%m-%dT%H:%MZ"), anchor.strftime("%Y-%m-%dT%H:%MZ"), " ".join(f.strftime("%Y-%m-%dT%H:%MZ") for f in found)]))
            made += 1
        # Intervals count what passes, from the anchor.
        for n, unit in [(10, "minutes"), (90, "minutes"), (6, "hours")]:
            span = timedelta(minutes=n) if unit == "minutes" else timedelta(hours=n)
            k = (start - anchor) // span + 1
            print("\t".join([f"every {n} {unit}", zone_name, start.strftime("%Y-%m-%dT%H:%MZ"), anchor.strftime("%Y-%m-%dT%H:%MZ"), " ".join((anchor + span * (k + i)).strftime("%Y-%m-%dT%H:%MZ") for i in range(4))]))


main()
