"""Proof: run the posted program against stock, tool, holder and part, and report what is found."""

from fenrik.core.proof.run import Proof, ProofInputs, ProofSettings, prove

__all__ = ["Proof", "ProofInputs", "ProofSettings", "prove"]
