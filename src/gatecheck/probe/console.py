"""This machine's own screen and keyboard."""

import os
import select
import shutil
import termios
import textwrap
import tty


def ask_at_console(lines, going):
    """Lines on this machine's own screen and one key from its own keyboard, Y: what stands in standard input came from
    elsewhere. False for any other key, and where there is neither."""
    consoles = _consoles()
    before = [(console, termios.tcgetattr(console)) for console in consoles]
    try:
        for console in consoles:
            tty.setcbreak(console, termios.TCSADRAIN)
            termios.tcflush(console, termios.TCIFLUSH)  # a key that was pressed before the question is no answer to it
            os.write(console, ("\r\n" + "\r\n".join(lines) + "\r\nY: yes. Any other key: no. ").encode())
        while consoles and going():
            for console in select.select(consoles, [], [], 1.0)[0]:
                key = os.read(console, 1)
                os.write(console, b"\r\n")
                return key in (b"y", b"Y")
        return False
    finally:
        for console, own in before:
            termios.tcsetattr(console, termios.TCSADRAIN, own)
            os.close(console)


def _consoles():
    """The terminal that this was started from; without one, the machine's console and its screen with its keyboard,
    which need not be the same."""
    found = []
    for place in ("/dev/tty", "/dev/console", "/dev/tty0"):
        try:
            console = os.open(place, os.O_RDWR | os.O_NOCTTY)
        except OSError:
            continue
        try:
            termios.tcgetattr(console)
        except termios.error:
            os.close(console)
            continue
        found.append(console)
        if place == "/dev/tty":
            break
    return found


class Terminal:
    """Lines that stay, and one at the foot that is written over: what is being done now. Only a terminal has a foot."""

    def __init__(self, out):
        self.out, self.foot = out, False
        self.has_foot = out.isatty()

    def say(self, text):
        lines = (
            textwrap.wrap(
                text, shutil.get_terminal_size().columns - 1, subsequent_indent="         ", break_long_words=False
            )
            if self.has_foot
            else [text]
        )
        self.out.write(("\r\x1b[K" if self.foot else "") + "\n".join(lines) + "\n")
        self.foot = False
        self.out.flush()

    def hint(self, text):
        if self.has_foot:
            width = shutil.get_terminal_size().columns - 1
            self.out.write("\r\x1b[K" + text[:width])
            self.foot = True
            self.out.flush()
