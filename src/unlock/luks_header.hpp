// SPDX-License-Identifier: MIT
// What opening a LUKS volume needs besides its description.
#pragma once

#include <herberge/unlock.hpp>

namespace herberge::luks {

/// One slot, with what derives its key.
struct Slot {
    KeySlot told;
    std::string derivation_hash;  ///< of PBKDF2
    std::string stripes_hash;     ///< of the splitter
    std::vector<std::uint8_t> salt;
    std::uint64_t stripes = 0;
    std::size_t area_key_bytes = 0;  ///< of the key that enciphers the area
    std::size_t key_bytes = 0;       ///< of the content's key
};

/// How a content's key is recognised.
struct KeyDigest {
    std::string hash;
    std::uint64_t rounds = 0;
    std::vector<std::uint8_t> salt, value;
    std::vector<int> slots;  ///< empty: all
};

struct Header {
    LuksDescription told;  ///< without `slots`
    std::vector<Slot> slots;
    KeyDigest digest;
};

/// Reads the header that counts. Errors as describe_luks.
[[nodiscard]] Result<Header> read_header(const ByteSource& volume);

/// Looks whether a slot's area can hold a key: enciphered bytes look random, everywhere.
void judge_area(const ByteSource& volume, KeySlot& slot);

}  // namespace herberge::luks
