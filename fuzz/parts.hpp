// SPDX-License-Identifier: MIT
// A volume of which an input holds only the blocks that are not empty: file systems whose least size is far above what
// a fuzzer can turn over.
#pragma once

#include <algorithm>
#include <cstring>
#include <map>
#include <vector>

#include <herberge/herberge.hpp>

#include "sums.hpp"

namespace fuzz {

constexpr std::size_t part_block = 4096, part_head = 8, part_each = 4 + part_block;

/// "parts", a zero, the volume's size in MiB (16 bits); then a block's number (32 bits) and its bytes, again and again.
/// The machine's own order of bytes.
inline bool is_parts(std::span<const std::uint8_t> input) {
    return input.size() >= part_head + part_each && std::memcmp(input.data(), "parts", 6) == 0;
}

class PartsSource : public herberge::ByteSource {
public:
    explicit PartsSource(std::span<const std::uint8_t> input) : input_(input) {
        std::uint16_t mebibytes = 0;
        std::memcpy(&mebibytes, input.data() + 6, 2);
        size_ = std::uint64_t{mebibytes} << 20U;
        for (std::size_t at = part_head; at + part_each <= input.size(); at += part_each) {
            std::uint32_t number = 0;
            std::memcpy(&number, input.data() + at, 4);
            blocks_[number] = at + 4;
        }
    }
    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return "d1p1"; }
    [[nodiscard]] std::vector<herberge::DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        return {{1, offset, length}};
    }
    [[nodiscard]] herberge::Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (offset > size_ || into.size() > size_ - offset)
            return herberge::fail(herberge::ErrorKind::OutOfRange, "behind the end", place());
        while (!into.empty()) {
            const std::size_t within = offset % part_block, count = std::min(part_block - within, into.size());
            const auto found = blocks_.find(static_cast<std::uint32_t>(offset / part_block));
            if (found == blocks_.end()) std::fill_n(into.begin(), count, std::uint8_t{0});
            else std::copy_n(input_.data() + found->second + within, count, into.begin());
            into = into.subspan(count);
            offset += count;
        }
        return {};
    }

private:
    std::span<const std::uint8_t> input_;
    std::uint64_t size_ = 0;
    std::map<std::uint32_t, std::size_t> blocks_;
};

/// The input that stands for an image; empty where it has more than `most` blocks that are not empty.
inline std::vector<std::uint8_t> parts_of(std::span<const std::uint8_t> image, std::size_t most) {
    std::vector<std::uint8_t> out = {'p', 'a', 'r', 't', 's', 0, 0, 0};
    const auto mebibytes = static_cast<std::uint16_t>((image.size() + (1U << 20U) - 1) >> 20U);
    std::memcpy(out.data() + 6, &mebibytes, 2);
    for (std::uint32_t number = 0; (number + std::size_t{1}) * part_block <= image.size(); ++number) {
        const auto block = image.subspan(number * part_block, part_block);
        if (std::ranges::all_of(block, [](std::uint8_t b) { return b == 0; })) continue;
        if (most-- == 0) return {};
        const auto* const raw = reinterpret_cast<const std::uint8_t*>(&number);
        out.insert(out.end(), raw, raw + 4);
        out.insert(out.end(), block.begin(), block.end());
    }
    return out;
}

/// Changes one block in its place and mends the sums of all.
inline std::size_t mutate_parts(std::uint8_t* data, std::size_t size, unsigned seed) {
    const std::size_t count = (size - part_head) / part_each;
    LLVMFuzzerMutate(data + part_head + (seed >> 3U) % count * part_each + 4, part_block, part_block);
    if (seed % 8 == 0) return size;
    std::vector<std::uint8_t> blocks(count * part_block);
    for (std::size_t i = 0; i < count; ++i)
        std::copy_n(data + part_head + i * part_each + 4, part_block, blocks.data() + i * part_block);
    mend(Sums::Volume, blocks);
    for (std::size_t i = 0; i < count; ++i)
        std::copy_n(blocks.data() + i * part_block, part_block, data + part_head + i * part_each + 4);
    return size;
}

}  // namespace fuzz
