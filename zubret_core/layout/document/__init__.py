"""A file as a layout describes it, as data: regions where they stand, their records as columns, and what those mean.

Nothing here reads a file's structure or writes one: `reading` builds documents, `checks` are functions of them, and
`writing` builds the next one from it.
"""

from .document import Document, Group, Siblings
from .instance import Instance
from .records import Records
from .shape import Shape, Slot, shape_of

__all__ = ["Document", "Group", "Instance", "Records", "Shape", "Siblings", "Slot", "shape_of"]
