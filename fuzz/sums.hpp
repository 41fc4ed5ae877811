// SPDX-License-Identifier: MIT
// Mutators that mend checksums: without them nearly every change of what has a sum ends at the sum.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>

extern "C" std::size_t LLVMFuzzerMutate(std::uint8_t* data, std::size_t size, std::size_t most);

namespace fuzz {

/// What the bytes are; within it each structure is recognised by its own mark.
enum class Sums : std::uint8_t { Disk, Volume, Layers, Hive, Firmware, Board };

/// Writes the sums that the bytes should have, in place. `also`: chooses between forms that the bytes do not tell
/// apart.
void mend(Sums kind, std::span<std::uint8_t> bytes, std::uint8_t also = 0);

/// A change as libFuzzer makes it, after which the sums behind the first `head` bytes are mended; each eighth time they
/// are not, so that what is done about a wrong sum is met, too.
inline std::size_t mutate(Sums kind, std::size_t head, std::uint8_t* data, std::size_t size, std::size_t most,
                          unsigned seed) {
    size = LLVMFuzzerMutate(data, size, most);
    if (seed % 8 != 0 && size > head) mend(kind, {data + head, size - head}, static_cast<std::uint8_t>(seed >> 8U));
    return size;
}

}  // namespace fuzz

/// The mutator of a target.
#define HERBERGE_MENDING_MUTATOR(KIND, HEAD)                                                               \
    extern "C" std::size_t LLVMFuzzerCustomMutator(std::uint8_t* data, std::size_t size, std::size_t most, \
                                                   unsigned seed) {                                        \
        return fuzz::mutate(fuzz::Sums::KIND, HEAD, data, size, most, seed);                               \
    }
