// SPDX-License-Identifier: MIT
#include "storage/pieces.hpp"

#include <fmt/format.h>
#include <algorithm>

namespace herberge {

namespace {

constexpr std::uint64_t page = 4096;

}  // namespace

Result<void> ChunkedSource::read(std::uint64_t offset, std::span<std::uint8_t> into) const {
    if (offset > size_ || into.size() > size_ - offset)
        return fail(ErrorKind::OutOfRange, "a read past the end", fmt::format("{}@{}+{}", place_, offset, into.size()));
    while (!into.empty()) {
        const auto [part, at, room] = piece(offset);
        auto length = static_cast<std::size_t>(std::min<std::uint64_t>(room, into.size()));
        if (part != nullptr) {
            auto done = part->read(at, into.first(length));
            if (!done && !done.error().unreadable()) return done;
            if (!done) {
                // A page at a time, as the drivers do it (drivers/md/raid1.c, fix_read_error).
                length = static_cast<std::size_t>(std::min<std::uint64_t>(length, page - at % page));
                if (done = part->read(at, into.first(length)); !done) {
                    const auto made = made_up(offset, into.first(length));
                    if (!made) return done;
                    length = *made;
                }
            }
        } else {
            const auto made = made_up(offset, into.first(length));
            if (!made) return tl::unexpected(made.error());
            length = *made;
        }
        into = into.subspan(length);
        offset += length;
    }
    return {};
}

Result<std::size_t> ChunkedSource::made_up(std::uint64_t /*offset*/, std::span<std::uint8_t> /*into*/) const {
    return fail(ErrorKind::NotFound, "no copy of this part is there", place_);
}

std::vector<DiskRange> ChunkedSource::locate(std::uint64_t offset, std::uint64_t length) const {
    std::vector<DiskRange> out;
    length = offset < size_ ? std::min(length, size_ - offset) : 0;
    while (length != 0) {
        const auto [part, at, room] = piece(offset);
        const auto some = std::min(room, length);
        if (part != nullptr)
            for (const auto& range : part->locate(at, some)) out.push_back(range);
        offset += some;
        length -= some;
    }
    return out;
}

namespace {

class Striped final : public ChunkedSource {
public:
    Striped(std::vector<Source> parts, std::uint64_t chunk, std::uint64_t size, std::string place)
        : ChunkedSource(std::move(place)), parts_(std::move(parts)), chunk_(chunk) {
        set_size(size);
    }

private:
    [[nodiscard]] Piece piece(std::uint64_t offset) const override {
        const std::uint64_t number = offset / chunk_;
        const std::uint64_t within = offset % chunk_;
        return {parts_[number % parts_.size()].get(), number / parts_.size() * chunk_ + within, chunk_ - within};
    }

    std::vector<Source> parts_;
    std::uint64_t chunk_;
};

}  // namespace

Source striped_source(std::vector<Source> parts, std::uint64_t chunk, std::uint64_t size, std::string place) {
    return std::make_shared<const Striped>(std::move(parts), chunk, size, std::move(place));
}

Source renamed(Source source, std::string place) {
    const auto size = source->size();
    return slice(std::move(source), 0, size, std::move(place));
}

Source absent_source(std::uint64_t size, Error why, std::string place) {
    class Absent final : public ByteSource {
    public:
        Absent(std::uint64_t size, Error why, std::string place)
            : size_(size), why_(std::move(why)), place_(std::move(place)) {}
        [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
        [[nodiscard]] std::string place() const override { return place_; }
        [[nodiscard]] Result<void> read(std::uint64_t /*offset*/, std::span<std::uint8_t> into) const override {
            if (into.empty()) return {};
            return tl::unexpected(why_);
        }
        [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t /*offset*/, std::uint64_t /*length*/) const override {
            return {};
        }

    private:
        std::uint64_t size_;
        Error why_;
        std::string place_;
    };
    return std::make_shared<Absent>(size, std::move(why), std::move(place));
}

Source zero_source(std::uint64_t size, std::string place) {
    auto nothing = memory_source({}, place);
    return extent_source(std::move(nothing), {}, size, std::move(place));
}

}  // namespace herberge
