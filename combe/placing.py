"""Files that appear whole or not at all, several of them together; devices, pipes and links are written through.

What is to be written lies on the disk before anything is replaced: in a file without a name where the system has such, so that
whatever ends us leaves nothing behind.
"""

from __future__ import annotations

import contextlib
import os
import signal
import stat
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from combe.errors import FileError

Content = bytes | Iterable[bytes]
"""What a file is to hold; in pieces where it is made while it is written. Pieces of a later file may follow from those of
the ones before."""
STOPPING = {signal.SIGINT, signal.SIGTERM, signal.SIGHUP}


class _Whole:
    """A plain file that a finished one takes the place of, with the owner and rights it had."""

    def __init__(self, target: Path, content: Content, info: os.stat_result | None, is_lasting: bool) -> None:
        self.target = target
        self.temporary: Path | None = None
        self.handle = self.folder = -1
        try:
            self._open()
            for piece in _pieces(content):
                _write_all(self.handle, piece)
            if info is not None:
                if (info.st_uid, info.st_gid) != (os.geteuid(), os.getegid()):
                    os.fchown(self.handle, info.st_uid, info.st_gid)
                os.fchmod(self.handle, stat.S_IMODE(info.st_mode))
            else:
                os.fchmod(self.handle, 0o666 & ~_umask())
            if is_lasting:
                os.fsync(self.handle)
        except BaseException:
            self.discard()
            raise

    def _open(self) -> None:
        folder = self.target.parent
        with contextlib.suppress(OSError, AttributeError):
            self.handle = os.open(folder, os.O_TMPFILE | os.O_WRONLY | os.O_CLOEXEC, 0o600)
            self.folder = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        if self.handle < 0:
            self.handle, name = tempfile.mkstemp(prefix=".combe-", dir=folder)
            self.temporary = Path(name)

    def name(self) -> None:
        """Give it a name beside the file it replaces: the last step that may need room on the disk."""
        if self.temporary is not None:
            return
        name = self.target.parent / f".combe-{os.urandom(9).hex()}"
        # Only where a folder is given is the link behind /proc followed to the nameless file itself.
        os.link(f"/proc/self/fd/{self.handle}", name.name, dst_dir_fd=self.folder, follow_symlinks=True)
        self.temporary = name

    def place(self) -> None:
        """Let it take its place."""
        assert self.temporary is not None
        self.temporary.replace(self.target)
        self.temporary = None

    def discard(self) -> None:
        """Leave nothing behind."""
        for each in (self.handle, self.folder):
            if each >= 0:
                os.close(each)
        self.handle = self.folder = -1
        if self.temporary is not None:
            with contextlib.suppress(OSError):
                self.temporary.unlink()
            self.temporary = None


class _Through:
    """A device or pipe, or a file that keeps its identity because it has other names or another owner: written into."""

    def __init__(self, target: Path, content: Content, info: os.stat_result) -> None:
        self.target, self.content = target, b"".join(_pieces(content))
        self.is_plain = stat.S_ISREG(info.st_mode)

    def name(self) -> None:
        """Nothing is prepared."""

    def place(self) -> None:
        """Write it; a plain file that can't take all of it gets its old content back."""
        before = self.target.read_bytes() if self.is_plain else b""
        handle = os.open(self.target, os.O_WRONLY | os.O_CLOEXEC)
        try:
            try:
                _write_all(handle, self.content)
                if self.is_plain:
                    os.ftruncate(handle, len(self.content))
                    os.fsync(handle)
            except OSError:
                if self.is_plain:
                    os.lseek(handle, 0, os.SEEK_SET)
                    _write_all(handle, before)
                    os.ftruncate(handle, len(before))
                raise
        finally:
            os.close(handle)

    def discard(self) -> None:
        """Nothing to leave behind."""


def write_files(contents: Sequence[tuple[Path, Content]], is_lasting: bool = True) -> None:
    """Write files so that all of them appear, whole, or none.

    All contents are on the disk before the first is put in place; putting them there is a few renames, which signals wait for.
    Where they aren't to last, none is waited for until it lies there.

    Raises
    ------
    FileError
        Naming the file that can't be written; nothing is changed then.
    """
    staged: list[tuple[Path, _Whole | _Through]] = []
    current = Path()
    try:
        for path, content in contents:
            current = path
            staged.append((path, _staged(path, content, is_lasting)))
        with _undisturbed():
            for path, each in staged:
                current = path
                each.name()
            for path, each in staged:
                current = path
                each.place()
        for folder in {each.target.parent for _, each in staged if isinstance(each, _Whole) and is_lasting}:
            _keep_folder(folder)
    except OSError as error:
        raise FileError(f"can't be written ({error.strerror or error})", str(current)) from None
    finally:
        for _, each in staged:
            each.discard()


def _staged(path: Path, content: Content, is_lasting: bool) -> _Whole | _Through:
    try:
        info = path.stat()
    except FileNotFoundError:
        return _Whole(Path(os.path.realpath(path)), content, None, is_lasting)
    if stat.S_ISDIR(info.st_mode):
        raise IsADirectoryError(0, "this is a folder")
    if not stat.S_ISREG(info.st_mode):
        return _Through(path, content, info)
    if not os.access(path, os.W_OK):
        raise PermissionError(0, "it is read-only")
    is_ours = info.st_uid == os.geteuid() or os.geteuid() == 0
    if info.st_nlink > 1 or not is_ours:
        return _Through(path, content, info)
    target = Path(os.path.realpath(path))
    if not os.access(target.parent, os.W_OK):
        return _Through(path, content, info)
    return _Whole(target, content, info, is_lasting)


@contextlib.contextmanager
def _undisturbed() -> Iterator[None]:
    """Signals that would end us wait."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, STOPPING)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _pieces(content: Content) -> Iterable[bytes]:
    return (content,) if isinstance(content, bytes) else content


def _write_all(handle: int, content: bytes) -> None:
    view = memoryview(content)
    while view:
        view = view[os.write(handle, view) :]


def _keep_folder(folder: Path) -> None:
    """Let the renames outlive a loss of power, where the file system can."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
