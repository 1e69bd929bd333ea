"""Writing new banks and archives, and proving them."""

from .expected import ProofPoint, Prover, expectation, prove_in_new_process
from .plan import EntryFile, FilePlan, StreamSwap, plan_rebuild, write_plan

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
