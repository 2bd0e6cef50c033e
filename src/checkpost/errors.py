"""Errors that end a command with one sentence and an exit status."""

from __future__ import annotations

#: Exit statuses of every command.
CLEAN, FINDINGS, WRONG_INPUT, NOT_COMPLETED = 0, 1, 2, 3


class CheckPostError(Exception):
    """What a user gave cannot be used; the message says what is wrong, where, and what to do."""

    exit_status = WRONG_INPUT


class NotCompleted(CheckPostError):
    """The API, or an interruption, kept the work from being completed."""

    exit_status = NOT_COMPLETED
