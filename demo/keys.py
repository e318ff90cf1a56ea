"""Presses keys in a program that has the whole terminal: keys.py KEY... -- COMMAND. A key is pressed once nothing was drawn for a
while; \\r, \\x1b[B and the like are understood. Waits when all are pressed."""
import fcntl
import os
import pty
import select
import sys
import termios
import time

cut = sys.argv.index("--")
keys = [key.encode().decode("unicode_escape").encode("latin-1") for key in sys.argv[1:cut]]
child, terminal = pty.fork()
if child == 0:
    time.sleep(0.2)  # until the terminal has its size
    os.execvp(sys.argv[cut + 1], sys.argv[cut + 1:])
fcntl.ioctl(terminal, termios.TIOCSWINSZ, fcntl.ioctl(1, termios.TIOCGWINSZ, b"\0" * 8))
while True:
    ready, _, _ = select.select([terminal], [], [], 0.6)
    try:
        if ready:
            os.write(1, os.read(terminal, 65536))
        elif keys:
            os.write(terminal, keys.pop(0))
        else:
            break
    except OSError:
        break
