"""Writing new banks and archives, and proving them."""

from .plan import EntryFile, FilePlan, StreamSwap, plan_rebuild, write_plan
from .prove import ProofPoint, prove_in_new_process

__all__ = ["EntryFile", "FilePlan", "ProofPoint", "StreamSwap", "plan_rebuild", "prove_in_new_process", "write_plan"]
