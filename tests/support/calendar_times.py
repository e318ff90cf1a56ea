#!/usr/bin/env python3
"""The begins of the entries of an iCalendar file, in UTC and in order, by a parser that is not ours."""
import datetime
import sys

import icalendar

with open(sys.argv[1], "rb") as file:
    calendar = icalendar.Calendar.from_ical(file.read())
begins, identities = [], set()
for event in calendar.walk("VEVENT"):
    begins.append(event.decoded("DTSTART").astimezone(datetime.timezone.utc))
    assert event.decoded("DTEND") > event.decoded("DTSTART")
    assert str(event["SUMMARY"])
    identities.add(str(event["UID"]))
assert len(identities) == len(begins), "two entries with one identity"
for begin in sorted(begins):
    print(begin.strftime("%Y-%m-%dT%H:%M:%SZ"))
