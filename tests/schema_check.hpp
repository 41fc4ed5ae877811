// SPDX-License-Identifier: MIT
#pragma once

#include <string>
#include <string_view>

namespace support {

/// Compares a document with its schema in docs/schema, in which what is not described is wrong here. Empty: it holds;
/// else where it does not. `schema`: a file's name, for documents that do not name theirs.
std::string schema_problem(std::string_view document, std::string_view schema = {});

}  // namespace support
