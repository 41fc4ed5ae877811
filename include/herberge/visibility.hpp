// SPDX-License-Identifier: MIT
// What a shared library shows: the contents of these headers, and nothing else.
#pragma once

/// Stands before the namespace's name in every public header; what other files declare stays inside.
#define HERBERGE_PUBLIC [[gnu::visibility("default")]]
