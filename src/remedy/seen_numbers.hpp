// SPDX-License-Identifier: MIT
#pragma once

#include <string>
#include <vector>

#include <herberge/symptom.hpp>

namespace herberge::remedy {

/// Adds the numbers that stand in a line (as plain_line and words_of give it), each once.
void find_numbers(const std::string& plain, const std::vector<std::string>& words, std::vector<SeenNumber>& out);

}  // namespace herberge::remedy
