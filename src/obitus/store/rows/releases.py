"""Rows of releases, deploys and commits."""

from __future__ import annotations

from typing import NamedTuple


class Release(NamedTuple):
    """A release of an app, with how many of its commits are known."""

    id: int
    version: str
    first_ms: int
    revision: str
    behind: str | None
    commits: int


class PlacedRelease(NamedTuple):
    """A release with the facts of its order."""

    version: str
    first_ms: int
    behind: str | None


class Deploy(NamedTuple):
    """An arrival of a release in an environment."""

    release_id: int
    version: str
    environment: str
    time_ms: int
    inferred: int
    canary: int
    reported_by: str


class ListedDeploy(NamedTuple):
    """The same, with its app."""

    version: str
    app: str
    environment: str
    time_ms: int
    inferred: int
    canary: int
    reported_by: str


class CommitLine(NamedTuple):
    """A commit, as it is listed."""

    hash: str
    time_ms: int
    author: str
    subject: str
    files: int


class Version(NamedTuple):
    """A release, by its number."""

    id: int
    version: str


class Revision(NamedTuple):
    """The commit that a release was made of."""

    version: str
    revision: str


class KnownRelease(NamedTuple):
    """A release of an app, as a report or a person names it."""

    id: int
    version: str
    first_ms: int
    removed_ms: int | None


class KnownDeploy(NamedTuple):
    """The first arrival of a release in an environment."""

    id: int
    time_ms: int
    inferred: int


class KnownCommit(NamedTuple):
    """A commit of a release."""

    id: int
    hash: str
    time_ms: int
    author: str
    subject: str


class CommitFile(NamedTuple):
    """A file that a commit touched; ``ranges`` and ``names`` are JSON."""

    commit_id: int
    path: str
    ranges: str
    names: str


class CommitLibrary(NamedTuple):
    """A library whose version a commit changed."""

    commit_id: int
    name: str
    before: str
    after: str
