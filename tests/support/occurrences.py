#!/usr/bin/env python3
"""Moments of recurrence rules by an independent implementation: reads lines "ZONE<tab>RRULE<tab>FIRST<tab>UNTIL" (local
times like 2027-03-01T09:30) and prints for each a line of seconds since 1970. A time that a clock change skips happens at
the change; one that comes twice happens the first time."""
import sys
from datetime import datetime, timedelta, timezone
from zoneinfo import ZoneInfo

from dateutil.rrule import rrulestr


def moment(local, zone):
    utc = local.replace(tzinfo=zone, fold=0).astimezone(timezone.utc)
    if utc.astimezone(zone).replace(tzinfo=None) == local:
        return int(utc.timestamp())
    # Skipped: back to the first minute after the change.
    while True:
        before = utc - timedelta(minutes=1)
        if before.astimezone(zone).utcoffset() != utc.astimezone(zone).utcoffset():
            return int(utc.timestamp())
        utc = before


for line in sys.stdin:
    name, rule, first, until = line.rstrip("\n").split("\t")
    zone = ZoneInfo(name)
    found = rrulestr("RRULE:" + rule, dtstart=datetime.fromisoformat(first))
    print(" ".join(str(moment(one, zone)) for one in found.between(datetime.fromisoformat(first), datetime.fromisoformat(until), inc=True)))
