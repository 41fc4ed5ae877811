// SPDX-License-Identifier: MIT
#include <herberge/flash.hpp>

#include <fmt/format.h>
#include <algorithm>
#include <charconv>

namespace herberge {

namespace {

constexpr std::size_t most_parts = 128;
constexpr std::uint64_t smallest = 512;  // what a place in a table can say

/// Takes the words apart from left to right.
class LayoutReader {
public:
    LayoutReader(std::string_view text, std::uint64_t size) : text_(text), size_(size) {}

    Result<std::vector<FlashPart>> read() {
        if (text_.starts_with("mtdparts=")) at_ = 9;
        const auto colon = text_.find(':', at_);
        // A name may hold no bracket: what stands behind one belongs to a part.
        if (colon != std::string_view::npos && colon < std::min(text_.find('(', at_), text_.size())) at_ = colon + 1;
        std::vector<FlashPart> out;
        std::uint64_t next = 0;
        bool last = false;
        while (true) {
            if (last) return wrong("a part behind the one that takes all the rest");
            if (out.size() == most_parts) return wrong("more parts than are read");
            auto part = one(next, last);
            if (!part) return tl::unexpected(part.error());
            part->line = static_cast<int>(out.size());
            next = part->at + part->size;
            out.push_back(std::move(*part));
            if (at_ >= text_.size() || text_[at_] == ';' || text_[at_] == ' ' || text_[at_] == '\n') return out;
            if (text_[at_] != ',') return wrong("neither a comma nor the end");
            ++at_;
        }
    }

private:
    [[nodiscard]] tl::unexpected<Error> wrong(std::string what, ErrorKind kind = ErrorKind::Malformed) const {
        return fail(kind, fmt::format("{} at character {}", what, at_ + 1), "flash layout");
    }

    /// Decimal, or hexadecimal behind 0x; k, m, g behind it (lib/cmdline.c, memparse).
    std::optional<std::uint64_t> number() {
        int base = 10;
        if (text_.substr(at_).starts_with("0x") || text_.substr(at_).starts_with("0X")) {
            base = 16;
            at_ += 2;
        }
        std::uint64_t value = 0;
        const auto* begin = text_.data() + at_;
        const auto [end, problem] = std::from_chars(begin, text_.data() + text_.size(), value, base);
        if (problem != std::errc{}) return std::nullopt;
        at_ += static_cast<std::size_t>(end - begin);
        if (at_ < text_.size()) {
            constexpr std::string_view units = "kmg";
            const char unit = static_cast<char>(text_[at_] | 0x20);
            if (const auto power = units.find(unit); power != std::string_view::npos) {
                const auto shift = 10U * (static_cast<unsigned>(power) + 1);
                if (value >> (63U - shift) != 0) return std::nullopt;
                value <<= shift;
                ++at_;
            }
        }
        return value;
    }

    Result<FlashPart> one(std::uint64_t next, bool& last) {
        FlashPart out;
        out.at = next;
        if (at_ < text_.size() && text_[at_] == '-') {
            last = true;
            ++at_;
        } else {
            const auto size = number();
            if (!size || *size == 0) return wrong("no size");
            out.size = *size;
        }
        if (at_ < text_.size() && text_[at_] == '@') {
            ++at_;
            const auto place = number();
            if (!place) return wrong("no place behind the @");
            out.at = *place;
        }
        if (at_ < text_.size() && text_[at_] == '(') {
            const auto close = text_.find(')', at_);
            if (close == std::string_view::npos) return wrong("a bracket that is not closed");
            out.name = text_.substr(at_ + 1, close - at_ - 1);
            at_ = close + 1;
        }
        for (const std::string_view flag : {"ro", "lk", "slc"})
            if (text_.substr(std::min(at_, text_.size())).starts_with(flag)) at_ += flag.size();
        if (out.at % smallest != 0) return wrong("a part that begins inside a sector");
        if (out.at >= size_)
            return wrong(fmt::format("a part that begins behind the flash's {} bytes", size_), ErrorKind::OutOfRange);
        out.size = last ? size_ - out.at : std::min(out.size, size_ - out.at);
        return out;
    }

    std::string_view text_;
    std::uint64_t size_;
    std::size_t at_ = 0;
};

}  // namespace

Result<std::vector<FlashPart>> parse_flash_layout(std::string_view text, std::uint64_t flash_size) {
    return LayoutReader(text, flash_size).read();
}

bool is_divided_flash(const Disk& disk) { return disk.table.kind == TableKind::None && !disk.table.partitions.empty(); }

void divide_flash(Disk& disk, const std::vector<FlashPart>& parts, int first) {
    disk.table = PartitionTable{};
    disk.volumes.clear();
    disk.optical = false;
    for (const auto& part : parts) {
        Partition p;
        p.number = part.line + 1;
        p.slot = part.line;
        p.first_lba = part.at / smallest;
        p.sectors = part.size / smallest;
        p.name = part.name;
        disk.table.partitions.push_back(p);
        auto volume = std::make_shared<Volume>(
            slice(disk.source, part.at, part.size, fmt::format("d{}p{}", disk.number, p.number)), disk.number, p.number,
            std::string{}, part.name);
        const int number = first + part.line;
        volume->names.linux_names = {fmt::format("mtdblock{}", number), fmt::format("mtd{}", number)};
        if (!part.name.empty()) volume->names.linux_names.push_back("mtd:" + part.name);
        disk.volumes.push_back(std::move(volume));
    }
}

}  // namespace herberge
