"""Proof: run the posted program against stock, tool, holder and part, and report what is found."""

from fenrik.core.proof.prove import Proof, prove
from fenrik.core.proof.scene import ProofInputs, ProofSettings

__all__ = ["Proof", "ProofInputs", "ProofSettings", "prove"]
