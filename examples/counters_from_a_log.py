#!/usr/bin/env python3
"""Says over the moth's feed what a program writes into its log: counters, read with patterns.

    python3 examples/counters_from_a_log.py broadcaster.log \\
        'late (?P<lagged>\\d+) of (?P<rendered>\\d+)' 'encoder behind: (?P<skipped>\\d+)'
    some-broadcaster 2>&1 | python3 examples/counters_from_a_log.py - 'drop=(?P<skipped>\\d+)'

Each pattern is a regular expression; the names of its groups are the feed's keys (docs/feed.md): rendered, lagged, encoded, skipped
(counts since any beginning), render_ms, encode_ms, gpu_percent, encoder_percent, speed. A log is followed as it grows, also into the
file that takes its place when it is turned over; what was in it before is not told. With --sum a count in the log is what is new in that
line, and is added up here.
"""

import argparse
import json
import os
import re
import socket
import sys
import time

COUNTS = ["rendered", "lagged", "encoded", "skipped"]
FIGURES = ["render_ms", "encode_ms", "gpu_percent", "encoder_percent", "speed"]
# A log may grow faster than anybody needs to know.
SAYS_EACH_S = 0.25


def options():
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("log", help="the log, or - for standard input")
    parser.add_argument("patterns", nargs="+", help="regular expressions with named groups")
    parser.add_argument("--feed", default="127.0.0.1:19351", help="the moth's feed (default: %(default)s)")
    parser.add_argument("--sum", action="store_true", help="counts are what is new in a line")
    chosen = parser.parse_args()
    known = set(COUNTS + FIGURES)
    try:
        chosen.patterns = [re.compile(pattern) for pattern in chosen.patterns]
    except re.error as error:
        parser.error(f"{error.pattern!r} is no regular expression: {error}")
    for pattern in chosen.patterns:
        strange = set(pattern.groupindex) - known
        if strange or not pattern.groupindex:
            parser.error(f"{pattern.pattern!r} needs groups named after {', '.join(sorted(known))}; it has {sorted(strange) or 'none'}")
    return chosen


def lines(path):
    """Its lines as they come; None when there is nothing new."""
    if path == "-":
        yield from sys.stdin
        return
    log = None
    while True:
        if log is None:
            try:
                log = open(path, encoding="utf-8", errors="replace")
                log.seek(0, os.SEEK_END)
            except FileNotFoundError:
                yield None
                continue
        line = log.readline()
        if line:
            yield line
            continue
        yield None
        try:
            now = os.stat(path)
        except FileNotFoundError:
            continue
        if (now.st_ino, now.st_dev) != (os.fstat(log.fileno()).st_ino, os.fstat(log.fileno()).st_dev) or now.st_size < log.tell():
            log.close()
            # Of the new one all is told.
            log = open(path, encoding="utf-8", errors="replace")


class Feed:
    """Says lines, over another connection if the last one is gone."""

    def __init__(self, address):
        host, _, port = address.rpartition(":")
        self.address, self.connection, self.said_at = (host, int(port)), None, 0.0

    def say(self, told):
        """Whether it was said; not so often, nor to nobody."""
        if time.monotonic() - self.said_at < SAYS_EACH_S:
            return False
        self.said_at = time.monotonic()
        try:
            self.connection = self.connection or socket.create_connection(self.address, timeout=5)
            self.connection.sendall((json.dumps(told) + "\n").encode())
            return True
        except OSError as error:
            print(f"the feed at {self.address[0]}:{self.address[1]} does not answer: {error}", file=sys.stderr)
            # It is tried again a little later.
            self.connection, self.said_at = None, time.monotonic() + 2
            return False


def take(line, chosen, told):
    """Takes what a line tells; whether it told anything."""
    is_new = False
    for found in (found for pattern in chosen.patterns for found in pattern.finditer(line)):
        for name, text in found.groupdict().items():
            try:
                value = float(text.replace(",", "."))
            except (AttributeError, ValueError):
                continue
            if name in COUNTS:
                value = int(value) + (told.get(name, 0) if chosen.sum else 0)
            told[name], is_new = value, True
    return is_new


def main():
    chosen = options()
    told, feed, is_new = {}, Feed(chosen.feed), False
    for line in lines(chosen.log):
        if line is None:
            time.sleep(0.05)
        else:
            is_new |= take(line, chosen, told)
        if is_new:
            is_new = not feed.say(told)
    # The last word of a log that ended.
    feed.said_at = 0.0
    if is_new:
        feed.say(told)


if __name__ == "__main__":
    try:
        main()
    except KeyboardInterrupt:
        pass
