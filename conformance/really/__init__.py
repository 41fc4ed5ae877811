# SPDX-License-Identifier: MIT
"""Disks that real tools make, faults in them, real starts, and what `check` says of them: the parts of conformance/run."""
