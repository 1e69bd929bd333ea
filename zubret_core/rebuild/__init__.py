"""Writing new banks and archives, and proving them."""

from .expected import ProofPoint, Prover, expectation, prove_in_new_process
from .plan import plan_rebuild, write_plan
from .planned import EntryFile, FilePlan, StreamSwap

__all__ = [
    "EntryFile",
    "FilePlan",
    "ProofPoint",
    "Prover",
    "StreamSwap",
    "expectation",
    "plan_rebuild",
    "prove_in_new_process",
    "write_plan",
]
