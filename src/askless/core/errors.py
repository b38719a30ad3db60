"""The errors of Ask Less: a slug for programs, a message and a remedy for people.

A small tree of classes, by what the person at the terminal has to look at. `SLUGS` lists every slug
with its class; the page docs/errors.md is made from it.
"""

from __future__ import annotations


class AskLessError(Exception):
    """Something that the person at the terminal can put right.

    `slug` is stable and short; `message` says what is wrong and where; `remedy` says what to do. An
    error is created with its slug alone, and is of the class that `SLUGS` has for it.
    """

    def __new__(cls, slug: str, message: str, remedy: str = "") -> AskLessError:
        """An error of the slug's class."""
        kind = SLUGS[slug][0] if cls is AskLessError and slug in SLUGS else cls
        return super().__new__(kind, slug, message, remedy)

    def __init__(self, slug: str, message: str, remedy: str = "") -> None:
        super().__init__(message)
        self.slug = slug
        self.message = message
        self.remedy = remedy

    def __reduce__(self) -> tuple[type[AskLessError], tuple[str, str, str]]:
        """As it comes from another process."""
        return type(self), (self.slug, self.message, self.remedy)


# What a reader raises on input of a wrong form, beside the errors of its own: it costs that piece
# of input.
MALFORMED = (ArithmeticError, AttributeError, LookupError, TypeError, ValueError, RecursionError)


def described(error: BaseException) -> str:
    """An error that was not expected, in a line: its class and the beginning of its text."""
    return f"{type(error).__name__}: {str(error)[:200]}"


class UsageError(AskLessError):
    """An option or an argument that makes no sense, or names something that does not exist."""


class CaptureError(AskLessError):
    """A capture that can't be read, written or judged."""


class InputError(AskLessError):
    """A file other than a capture that can't be read: a log, a trace, a plan, a schema, a project's
    file.
    """


class StatementError(AskLessError):
    """A statement that can't be explained, tested or compared, or that is refused."""


class DatabaseError(AskLessError):
    """What a database refuses, or why it can't be reached or used."""


class PackageMissingError(AskLessError):
    """A package or program that is not installed."""


class MachineError(AskLessError):
    """Files, folders and ports of this machine."""


class RunError(AskLessError):
    """A program, a worker or a reader that ended too early."""


# Slug -> its class, and when it is raised.
SLUGS: dict[str, tuple[type[AskLessError], str]] = {
    # options and arguments
    "bad-buffer-size": (UsageError, "--buffer-size is not a size, or too small"),
    "bad-format": (UsageError, "--format names an unknown log format"),
    "bad-layout": (UsageError, "a log layout in askless.toml is invalid"),
    "bad-listen": (UsageError, "--listen is not an address, or is reachable from other machines"),
    "bad-max-queries": (UsageError, "--max-queries is not a whole number from 1"),
    "bad-parameters": (UsageError, "--parameters is not JSON, or does not fit"),
    "bad-port": (UsageError, "--port is not a port"),
    "bad-prefix": (UsageError, "--prefix is not a log_line_prefix"),
    "bad-repeat": (UsageError, "--repeat is not a whole number from 1"),
    "bad-request-by": (UsageError, "--request-by is not a known method"),
    "bad-sample": (UsageError, "--sample is not 1/N"),
    "bad-server": (UsageError, "--server, --to or --relay is not a server's address"),
    "bad-size": (UsageError, "an option is not a size"),
    "bad-sizes": (UsageError, "--sizes are not numbers, or do not fit --visit"),
    "bad-strict": (UsageError, "--strict is not a whole number from 2"),
    "bad-system": (UsageError, "--system is not a known database system"),
    "bad-time": (UsageError, "an option is not a time"),
    "bad-timeout": (UsageError, "--timeout is not a number of seconds"),
    "bad-tls": (UsageError, "a certificate or key can't be used"),
    "bad-header": (UsageError, "a header for visits can't be read"),
    "bad-url": (UsageError, "a URL is invalid"),
    "bad-workers": (UsageError, "--workers is not a whole number from 1"),
    "files-and-program": (UsageError, "both files and a program are named"),
    "no-document": (UsageError, "there is no such document"),
    "no-figure": (UsageError, "there is nothing to draw, or options do not fit"),
    "no-finding": (UsageError, "there is no finding with this name or number"),
    "no-format": (UsageError, "there is no such format, or it does not show this document"),
    "no-pattern": (UsageError, "there is no such pattern"),
    "no-program": (UsageError, "no program is named after --"),
    "no-query": (UsageError, "the request has no such query"),
    "no-route": (UsageError, "no route of the capture contains the text"),
    "no-request": (UsageError, "there is no request with this name, number or route"),
    "no-server": (UsageError, "the database server is not specified"),
    "no-target": (UsageError, "no output is named"),
    "not-local": (UsageError, "an address is reachable from other machines"),
    "not-together": (UsageError, "options can't be combined"),
    "renamed-option": (UsageError, "an option has a new name"),
    "two-clocks": (UsageError, "--marks and --access-log are both given"),
    "what-to-explain": (UsageError, "neither or both of a capture and --sql are named"),
    "what-to-try": (UsageError, "nothing to test is named"),
    "what-to-weigh": (UsageError, "neither or both of a capture and --sql are named"),
    # captures
    "capture-damaged": (
        CaptureError,
        "parts of a capture can't be read or were lost, so it is not judged",
    ),
    "capture-empty": (CaptureError, "a folder or file contains no capture"),
    "capture-exists": (CaptureError, "a capture file exists already"),
    "capture-foreign": (CaptureError, "a file is not a capture"),
    "capture-missing": (CaptureError, "there is no capture at a path"),
    "capture-newer": (CaptureError, "a capture has a newer format"),
    "capture-unreadable": (CaptureError, "a capture can't be opened or read"),
    "capture-unwritable": (CaptureError, "a capture can't be written"),
    "no-budgets": (CaptureError, "there is nothing to check a capture against"),
    "not-in-capture": (CaptureError, "the capture contains no such statement"),
    "not-recovered": (CaptureError, "spans of a killed receiver can't be added to the capture"),
    "nothing-to-explain": (CaptureError, "the capture contains no statement to explain"),
    "nothing-to-replay": (CaptureError, "the capture contains no repetition of the finding"),
    "nothing-to-try": (CaptureError, "the capture contains no statement to test an index with"),
    "other-application": (CaptureError, "captures have no routes in common"),
    # other files
    "bad-log": (InputError, "a line of an access log is invalid"),
    "bad-marks": (InputError, "a line of a file of marks is invalid"),
    "log-missing": (InputError, "a log can't be opened"),
    "log-unreadable": (InputError, "a log has an unknown format or an unreadable line"),
    "marks-missing": (InputError, "a file of marks can't be opened"),
    "marks-overlap": (InputError, "marks overlap"),
    "nothing-passed": (InputError, "packets contain no traffic of the server"),
    "packets-missing": (InputError, "a packet file can't be opened"),
    "packets-unreadable": (InputError, "a file is not a packet file"),
    "page-missing": (InputError, "the installation lacks a page"),
    "plan-unreadable": (InputError, "a plan has an unknown format"),
    "project-file-bad": (InputError, "askless.toml is invalid"),
    "schema-unreadable": (InputError, "a file of tables can't be read"),
    "statement-unreadable": (InputError, "a file with a statement can't be read"),
    "traces-unreadable": (InputError, "a file of spans can't be read"),
    # statements
    "cant-explain": (StatementError, "a statement can't be explained"),
    "cant-run": (StatementError, "a statement lacks values"),
    "hidden-code": (StatementError, "a statement has a comment that the server runs"),
    "no-parts": (StatementError, "a statement has no clause that can be removed"),
    "not-a-select": (StatementError, "a statement that would be run is not a plain SELECT"),
    "not-an-index": (StatementError, "--index is not one CREATE INDEX"),
    "not-plannable": (StatementError, "a statement can't be planned by itself"),
    "not-repeatable": (StatementError, "a statement returns different rows each time"),
    "nothing-to-compare": (StatementError, "neither statement returns rows"),
    "nothing-to-test": (StatementError, "none of the statements can run on copies"),
    "placeholders-differ": (StatementError, "the placeholders of two statements do not match"),
    "schema-named": (StatementError, "a statement names a schema, but the trial uses copies"),
    "unknown-function": (StatementError, "a statement runs a routine that may have effects"),
    "value-cut": (StatementError, "a value was too long to be stored completely"),
    "value-unknown": (StatementError, "a value has a type that can't be stored"),
    # databases
    "connection-lost": (DatabaseError, "the connection was lost"),
    "copied-once": (DatabaseError, "MySQL can read a copy of a table only once per statement"),
    "database-missing": (DatabaseError, "there is no such database"),
    "database-refuses": (DatabaseError, "the database refuses a statement or a connection"),
    "index-refused": (DatabaseError, "the index can't be built"),
    "locked": (DatabaseError, "another session has locked a table"),
    "no-analyze": (DatabaseError, "the database does not measure plans"),
    "no-copies": (DatabaseError, "a table can't be copied"),
    "no-database": (DatabaseError, "a database is needed and not named"),
    "no-rights": (DatabaseError, "the user lacks a privilege"),
    "no-such-table": (DatabaseError, "a table does not exist"),
    "not-there": (DatabaseError, "a table or column does not exist"),
    "other-schema": (DatabaseError, "none of the capture's tables is in the database"),
    "others-wait": (
        DatabaseError,
        "another session waited for a trial's lock, so the trial stopped",
    ),
    "password-refused": (DatabaseError, "the server refuses the password"),
    "server-away": (DatabaseError, "the server can't be reached"),
    "server-busy": (DatabaseError, "other sessions are using the tables"),
    "system-unsupported": (DatabaseError, "the database system is not supported"),
    "timed-out": (DatabaseError, "a statement took longer than --timeout"),
    "too-large": (
        DatabaseError,
        "a table is too large to be copied or indexed without --allow-large",
    ),
    "type-unknown": (DatabaseError, "the server can't determine a parameter's type"),
    "url-unreadable": (DatabaseError, "the database URL is invalid"),
    "writes-refused": (DatabaseError, "a statement would write"),
    # packages
    "cluster-extra-missing": (PackageMissingError, "Dask is not installed"),
    "columns-extra-missing": (PackageMissingError, "PyArrow or pandas is not installed"),
    "patch-extra-missing": (PackageMissingError, "LibCST is not installed"),
    "demo-extra-missing": (PackageMissingError, "Flask or Django is not installed"),
    "demo-node-missing": (PackageMissingError, "Node.js is not installed"),
    "dpkt-missing": (PackageMissingError, "dpkt is not installed"),
    "driver-missing": (PackageMissingError, "the database driver is not installed"),
    "figures-extra-missing": (PackageMissingError, "Matplotlib is not installed"),
    "otlp-extra-missing": (PackageMissingError, "a package for OTLP is not installed"),
    "remote-extra-missing": (PackageMissingError, "fsspec is not installed"),
    "zst-missing": (PackageMissingError, "zstandard is not installed"),
    # this machine
    "cant-listen": (MachineError, "an address can't be listened on"),
    "demo-database-used": (MachineError, "the demo's database has tables already"),
    "disk-full": (MachineError, "there is not enough disk space for copies"),
    "file-unwritable": (MachineError, "a file can't be written"),
    "folder-in-use": (MachineError, "a folder already contains a capture"),
    "folder-shared": (MachineError, "a folder is writable by others"),
    "folder-unwritable": (MachineError, "a folder can't be written to"),
    "no-folder": (MachineError, "a folder does not exist"),
    "port-in-use": (MachineError, "a port is in use"),
    # what ended too early
    "cluster-away": (RunError, "the Dask scheduler can't be reached"),
    "cluster-lost": (RunError, "the cluster failed on a part of the capture"),
    "cluster-other": (RunError, "a worker has another version of Ask Less"),
    "demo-build-failed": (RunError, "the demo's database could not be built"),
    "endpoint-refused": (RunError, "an endpoint does not accept spans"),
    "page-fails": (RunError, "a page answers with an error before any edit"),
    "folder-exists": (MachineError, "a folder is there already"),
    "never-answers": (RunError, "a URL did not answer in time"),
    "program-exited": (RunError, "the program ended before its URL answered"),
    "program-missing": (RunError, "the program can't be started"),
    "reader-ended": (RunError, "a reader ended before its input"),
    "receiver-ended": (RunError, "the receiver can store no more spans"),
    "visit-failed": (RunError, "a visit got no answer"),
    "worker-died": (RunError, "a worker process ended unexpectedly"),
}
