"""What commands end with."""

DONE, WRONG_JOB, FAULTS = 0, 1, 2
