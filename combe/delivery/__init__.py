"""From a realization to text other tools take: each language a folder, its templates beside the writer."""

from combe.delivery.package import Package, SourceFile, checked_name, identifier_from

__all__ = ["Package", "SourceFile", "checked_name", "identifier_from"]
