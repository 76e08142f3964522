"""What all studies below a folder, or in an object store, say together."""

from gelassen.answers.archive.archive import Archive, open_archive

__all__ = ["Archive", "open_archive"]
