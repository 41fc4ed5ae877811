// SPDX-License-Identifier: MIT
// Owning what C libraries hand out.
#pragma once

#include <memory>

namespace herberge {

/// Calls what a C library has for giving something back.
template <auto Release>
struct Releaser {
    template <class T>
    void operator()(T* thing) const {
        static_cast<void>(Release(thing));
    }
};
/// What a C library made, given back by `Release` however the scope is left: a sink or a container may throw when
/// memory ends.
template <class T, auto Release>
using Held = std::unique_ptr<T, Releaser<Release>>;

}  // namespace herberge
