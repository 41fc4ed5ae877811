// SPDX-License-Identifier: MIT
#pragma once

#include <string_view>

namespace herberge {

/// The vendor of shim's own variables: MokList, MokListX, SbatLevel.
inline constexpr std::string_view shim_guid = "605dab50-e046-4300-abb6-3dd810dd8b23";

}  // namespace herberge
