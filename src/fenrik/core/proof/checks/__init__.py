"""The single checks of a proof, one a file: each looks at the run and gives findings."""

from fenrik.core.proof.checks import (
    bodies,
    contact,
    fixtures,
    joints,
    machine,
    missing,
    program,
    rapids,
    singular,
    table,
)

CHECKS = (
    missing.check, program.check, machine.check, joints.check, singular.check, table.check, rapids.check,
    contact.check, fixtures.check, bodies.check,
)  # fmt: skip
"""All checks of the run itself; `gouges` looks at the surface that it left."""
