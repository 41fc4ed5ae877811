// SPDX-License-Identifier: MIT
// The shared library takes all its code from the floors.
