// SPDX-License-Identifier: MIT
#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <algorithm>
#include <atomic>
#include <cerrno>
#include <map>
#include <mutex>
#include <system_error>
#include <unordered_map>
#include <utility>

#include <herberge/budget.hpp>
#include <herberge/bytes.hpp>

#include "bytes/lost.hpp"
#include "bytes/steady.hpp"

namespace herberge {

Result<std::vector<std::uint8_t>> ByteSource::bytes(std::uint64_t offset, std::uint64_t length,
                                                    std::uint64_t most) const {
    if (length > most)
        return fail(ErrorKind::TooLarge, "a structure claims to be too large to be read", place(),
                    fmt::format("at most {} bytes", most), fmt::format("{} bytes", length));
    // Before allocating: a hostile length must not cost memory that the source cannot fill.
    if (offset > size() || length > size() - offset)
        return fail(ErrorKind::OutOfRange, "a read past the end", place(), fmt::format("at most {} bytes", size()),
                    fmt::format("{} bytes at {}", length, offset));
    std::vector<std::uint8_t> out(length);
    if (auto done = read(offset, out); !done) return tl::unexpected(done.error());
    return out;
}

Result<std::string> ByteSource::text(std::uint64_t most) const {
    auto content = bytes(0, size(), most);
    if (!content) return tl::unexpected(content.error());
    return std::string(content->begin(), content->end());
}

namespace {

tl::unexpected<Error> past_end(const ByteSource& source, std::uint64_t offset, std::uint64_t length) {
    return fail(ErrorKind::OutOfRange, "a read past the end", source.place(),
                fmt::format("at most {} bytes", source.size()), fmt::format("{} bytes at {}", length, offset));
}

bool inside(const ByteSource& source, std::uint64_t offset, std::uint64_t length) {
    return offset <= source.size() && length <= source.size() - offset;
}

/// An open file, closed once.
class Descriptor {
public:
    explicit Descriptor(int number) : number_(number) {}
    Descriptor(const Descriptor&) = delete;
    Descriptor& operator=(const Descriptor&) = delete;
    Descriptor(Descriptor&& other) noexcept : number_(std::exchange(other.number_, -1)) {}
    Descriptor& operator=(Descriptor&&) = delete;
    ~Descriptor() {
        if (number_ >= 0) ::close(number_);
    }
    [[nodiscard]] int number() const { return number_; }

private:
    int number_;
};

class File final : public ImageFile {
public:
    File(Descriptor descriptor, std::uint64_t size, int disk)
        : descriptor_(std::move(descriptor)), size_(size), disk_(disk) {}
    File(const File&) = delete;
    File& operator=(const File&) = delete;
    File(File&&) = delete;
    File& operator=(File&&) = delete;
    ~File() override = default;

    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return fmt::format("d{}", disk_); }
    [[nodiscard]] const ReadCounters& counters() const noexcept override { return counters_; }

    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        return {{disk_, offset, length}};
    }

    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (!inside(*this, offset, into.size())) return past_end(*this, offset, into.size());
        if (auto paid = charge(Cost::Read, into.size()); !paid) return paid;
        if (into.size() >= 4 * block_size) return fetch(offset, into);
        while (!into.empty()) {
            const std::uint64_t block = offset / block_size;
            const std::uint64_t skip = offset % block_size;
            const std::size_t part = static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), block_size - skip));
            if (auto done = copy_from_block(block, skip, into.first(part)); !done) return done;
            offset += part;
            into = into.subspan(part);
        }
        return {};
    }

private:
    static constexpr std::uint64_t block_size = 4096;
    static constexpr std::size_t most_blocks = 512;

    Result<void> copy_from_block(std::uint64_t block, std::uint64_t skip, std::span<std::uint8_t> into) const {
        const std::lock_guard hold(lock_);
        auto found = blocks_.find(block);
        if (found == blocks_.end()) {
            const std::uint64_t start = block * block_size;
            std::vector<std::uint8_t> content(static_cast<std::size_t>(std::min(block_size, size_ - start)));
            if (auto done = fetch(start, content); !done) return done;
            // Boot structures are visited in bursts; dropping everything when full is as good as an LRU here.
            if (blocks_.size() >= most_blocks) blocks_.clear();
            found = blocks_.emplace(block, std::move(content)).first;
        }
        std::copy_n(found->second.begin() + static_cast<std::ptrdiff_t>(skip), into.size(), into.begin());
        return {};
    }

    Result<void> fetch(std::uint64_t offset, std::span<std::uint8_t> into) const {
        while (!into.empty()) {
            const ssize_t got = ::pread(descriptor_.number(), into.data(), into.size(), static_cast<off_t>(offset));
            if (got < 0 && errno == EINTR) continue;
            if (got <= 0)
                return tl::unexpected(Error{ErrorKind::Io,
                                            got < 0 ? "reading failed: " + std::generic_category().message(errno)
                                                    : "the file became shorter while it was read",
                                            fmt::format("d{}@{}+{}", disk_, offset, into.size()),
                                            {},
                                            {},
                                            offset});
            counters_.reads.fetch_add(1, std::memory_order_relaxed);
            counters_.bytes.fetch_add(static_cast<std::uint64_t>(got), std::memory_order_relaxed);
            offset += static_cast<std::uint64_t>(got);
            into = into.subspan(static_cast<std::size_t>(got));
        }
        return {};
    }

    Descriptor descriptor_;
    std::uint64_t size_;
    int disk_;
    mutable ReadCounters counters_;
    mutable std::mutex lock_;
    mutable std::unordered_map<std::uint64_t, std::vector<std::uint8_t>> blocks_;
};

class Memory final : public ByteSource {
public:
    Memory(std::vector<std::uint8_t> bytes, std::string place, int disk)
        : bytes_(std::move(bytes)), place_(std::move(place)), disk_(disk) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return bytes_.size(); }
    [[nodiscard]] std::string place() const override { return place_; }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (!inside(*this, offset, into.size())) return past_end(*this, offset, into.size());
        if (auto paid = charge(Cost::Read, into.size()); !paid) return paid;
        std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), into.size(), into.begin());
        return {};
    }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        if (disk_ == 0) return {};
        return {{disk_, offset, length}};
    }

private:
    std::vector<std::uint8_t> bytes_;
    std::string place_;
    int disk_;
};

class Slice final : public ByteSource {
public:
    Slice(Source base, std::uint64_t offset, std::uint64_t length, std::string place)
        : base_(std::move(base)), place_(std::move(place)) {
        offset_ = std::min(offset, base_->size());
        length_ = std::min(length, base_->size() - offset_);
    }
    [[nodiscard]] std::uint64_t size() const noexcept override { return length_; }
    [[nodiscard]] std::string place() const override { return place_; }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (!inside(*this, offset, into.size())) return past_end(*this, offset, into.size());
        return base_->read(offset_ + offset, into);
    }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        if (!inside(*this, offset, length)) return {};
        return base_->locate(offset_ + offset, length);
    }

private:
    Source base_;
    std::uint64_t offset_ = 0;
    std::uint64_t length_ = 0;
    std::string place_;
};

class Extents final : public ByteSource {
public:
    Extents(Source base, std::vector<Extent> extents, std::uint64_t size, std::string place)
        : base_(std::move(base)), extents_(std::move(extents)), size_(size), place_(std::move(place)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return place_; }

    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (!inside(*this, offset, into.size())) return past_end(*this, offset, into.size());
        Result<void> outcome;
        std::uint64_t at = 0;
        walk(offset, into.size(), [&](std::uint64_t length, const std::uint64_t* where) {
            auto part = into.subspan(static_cast<std::size_t>(at), static_cast<std::size_t>(length));
            at += length;
            if (where == nullptr) std::fill(part.begin(), part.end(), std::uint8_t{0});
            else outcome = base_->read(*where, part);
            return outcome.has_value();
        });
        if (!outcome && outcome.error().kind == ErrorKind::OutOfRange) {
            outcome.error().what = "a block of this file lies past the end of its volume";
            outcome.error().place = place_;
        }
        return outcome;
    }

    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        if (!inside(*this, offset, length)) return out;
        walk(offset, length, [&](std::uint64_t part, const std::uint64_t* where) {
            if (where == nullptr) return true;
            for (const auto& range : base_->locate(*where, part)) {
                if (!out.empty() && out.back().disk == range.disk &&
                    out.back().offset + out.back().length == range.offset)
                    out.back().length += range.length;
                else out.push_back(range);
            }
            return true;
        });
        return out;
    }

private:
    /// Calls `visit(length, base offset or null for a hole)` for each piece of the range, until it says false.
    template <class Visit>
    void walk(std::uint64_t offset, std::uint64_t length, Visit visit) const {
        auto next = std::upper_bound(extents_.begin(), extents_.end(), offset,
                                     [](std::uint64_t o, const Extent& e) { return o < e.offset; });
        if (next != extents_.begin()) --next;
        while (length > 0) {
            while (next != extents_.end() && next->offset + next->length <= offset) ++next;
            if (next == extents_.end() || offset < next->offset) {
                const std::uint64_t hole = next == extents_.end() ? length : std::min(length, next->offset - offset);
                if (!visit(hole, nullptr)) return;
                offset += hole;
                length -= hole;
                continue;
            }
            const std::uint64_t skip = offset - next->offset;
            const std::uint64_t part = std::min(length, next->length - skip);
            const std::uint64_t where = next->base_offset + skip;
            if (!visit(part, &where)) return;
            offset += part;
            length -= part;
        }
    }

    Source base_;
    std::vector<Extent> extents_;
    std::uint64_t size_;
    std::string place_;
};

class Sequence final : public ByteSource {
public:
    Sequence(std::vector<Source> parts, std::uint64_t alignment, std::string place) : place_(std::move(place)) {
        for (auto& part : parts) {
            const std::uint64_t length = part->size();
            parts_.push_back({size_, length, std::move(part)});
            size_ += length;
            if (alignment > 1 && size_ % alignment != 0) size_ += alignment - size_ % alignment;
        }
    }
    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return place_; }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (!inside(*this, offset, into.size())) return past_end(*this, offset, into.size());
        std::fill(into.begin(), into.end(), std::uint8_t{0});
        for (const auto& part : parts_) {
            const std::uint64_t from = std::max(offset, part.start);
            const std::uint64_t to = std::min(offset + into.size(), part.start + part.length);
            if (from >= to) continue;
            auto piece = into.subspan(static_cast<std::size_t>(from - offset), static_cast<std::size_t>(to - from));
            if (auto done = part.source->read(from - part.start, piece); !done) return done;
        }
        return {};
    }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        for (const auto& part : parts_) {
            const std::uint64_t from = std::max(offset, part.start);
            const std::uint64_t to = std::min(offset + length, part.start + part.length);
            if (from >= to) continue;
            const auto ranges = part.source->locate(from - part.start, to - from);
            out.insert(out.end(), ranges.begin(), ranges.end());
        }
        return out;
    }

private:
    struct Part {
        std::uint64_t start;
        std::uint64_t length;
        Source source;
    };
    std::vector<Part> parts_;
    std::uint64_t size_ = 0;
    std::string place_;
};

class Layered final : public Overlay {
public:
    explicit Layered(Source base) : base_(std::move(base)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return base_->size(); }
    [[nodiscard]] std::string place() const override { return base_->place(); }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        return base_->locate(offset, length);
    }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (!inside(*this, offset, into.size())) return past_end(*this, offset, into.size());
        const std::uint64_t end = offset + into.size();
        auto piece = pieces_.upper_bound(offset);
        if (piece != pieces_.begin()) --piece;
        // What is covered is not asked of the base, which may not be able to give it.
        std::uint64_t at = offset;
        const auto below = [&](std::uint64_t to) -> Result<void> {
            if (at >= to) return {};
            return base_->read(at,
                               into.subspan(static_cast<std::size_t>(at - offset), static_cast<std::size_t>(to - at)));
        };
        for (; piece != pieces_.end() && piece->first < end; ++piece) {
            const std::uint64_t from = std::max(offset, piece->first);
            const std::uint64_t to = std::min(end, piece->first + piece->second.size());
            if (from >= to) continue;
            if (auto done = below(from); !done) return done;
            std::copy(piece->second.begin() + static_cast<std::ptrdiff_t>(from - piece->first),
                      piece->second.begin() + static_cast<std::ptrdiff_t>(to - piece->first),
                      into.begin() + static_cast<std::ptrdiff_t>(from - offset));
            at = to;
        }
        return below(end);
    }
    Result<void> write(std::uint64_t offset, std::span<const std::uint8_t> bytes) override {
        if (!inside(*this, offset, bytes.size())) return past_end(*this, offset, bytes.size());
        if (bytes.empty()) return {};
        // Pieces never overlap and never change their size: what is covered is overwritten in place, gaps get pieces of
        // their own. A write costs its own length, however many came before it.
        const std::uint64_t end = offset + bytes.size();
        std::uint64_t at = offset;
        auto piece = pieces_.upper_bound(offset);
        if (piece != pieces_.begin() && std::prev(piece)->first + std::prev(piece)->second.size() > offset) --piece;
        while (at < end) {
            const std::uint64_t next = piece != pieces_.end() ? std::min(piece->first, end) : end;
            if (at < next) {
                const auto from =
                    bytes.subspan(static_cast<std::size_t>(at - offset), static_cast<std::size_t>(next - at));
                pieces_.emplace_hint(piece, at, std::vector<std::uint8_t>(from.begin(), from.end()));
                at = next;
                continue;
            }
            const std::uint64_t stop = std::min(end, piece->first + piece->second.size());
            std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(at - offset), stop - at,
                        piece->second.begin() + static_cast<std::ptrdiff_t>(at - piece->first));
            at = stop;
            ++piece;
        }
        return {};
    }
    [[nodiscard]] std::vector<std::pair<std::uint64_t, std::vector<std::uint8_t>>> changes() const override {
        std::vector<std::pair<std::uint64_t, std::vector<std::uint8_t>>> out;
        for (const auto& [start, content] : pieces_) {
            if (!out.empty() && out.back().first + out.back().second.size() == start)
                out.back().second.insert(out.back().second.end(), content.begin(), content.end());
            else out.emplace_back(start, content);
        }
        return out;
    }

private:
    Source base_;
    std::map<std::uint64_t, std::vector<std::uint8_t>> pieces_;
};

using Ranges = std::vector<std::pair<std::uint64_t, std::uint64_t>>;

/// Ascending, without overlaps; as start and end. Empty ranges are dropped, ends past the last number are cut.
Ranges merged(Ranges ranges) {
    for (auto& [start, length] : ranges)
        length = length > ~std::uint64_t{0} - start ? ~std::uint64_t{0} : start + length;
    std::erase_if(ranges, [](const auto& r) { return r.second <= r.first; });
    std::ranges::sort(ranges);
    Ranges out;
    for (const auto& [start, end] : ranges) {
        if (!out.empty() && start <= out.back().second) out.back().second = std::max(out.back().second, end);
        else out.emplace_back(start, end);
    }
    return out;
}

class Unreadable final : public DamagedSource {
public:
    Unreadable(Source base, Ranges ranges) : base_(std::move(base)), ranges_(merged(std::move(ranges))) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return base_->size(); }
    [[nodiscard]] std::string place() const override { return base_->place(); }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        return base_->locate(offset, length);
    }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        const auto range = std::ranges::upper_bound(ranges_, offset, {}, [](const auto& r) { return r.second; });
        if (range == ranges_.end() || into.empty() || range->first >= offset + into.size())
            return base_->read(offset, into);
        const std::uint64_t start = std::max(offset, range->first);
        const std::uint64_t length = std::min(offset + into.size(), range->second) - start;
        {
            constexpr std::size_t most_asked = 4096;
            const std::lock_guard hold(lock_);
            if (asked_.size() == most_asked && !full_) compact();
            full_ = asked_.size() == most_asked;
            if (!full_) asked_.emplace_back(start, length);
        }
        Error error{ErrorKind::Unreadable,
                    "this range cannot be read from the medium",
                    fmt::format("{}@{}+{}", place(), start, length),
                    {},
                    {},
                    start};
        return tl::unexpected(std::move(error));
    }
    [[nodiscard]] Ranges asked() const override {
        const std::lock_guard hold(lock_);
        compact();
        return asked_;
    }

private:
    void compact() const {
        asked_ = merged(std::move(asked_));
        for (auto& [start, end] : asked_) end -= start;
    }

    Source base_;
    Ranges ranges_;  ///< start and end
    mutable std::mutex lock_;
    mutable Ranges asked_;  ///< start and length
    mutable bool full_ = false;
};

/// Remembers what was refused: the sector of the first byte that could not be had.
class Steady final : public DamagedSource {
public:
    explicit Steady(Source base) : base_(std::move(base)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return base_->size(); }
    [[nodiscard]] std::string place() const override { return base_->place(); }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        return base_->locate(offset, length);
    }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (any_.load(std::memory_order_acquire) && !into.empty()) {
            const std::lock_guard hold(lock_);
            const auto first = refused_.lower_bound(offset / sector);
            if (first != refused_.end() && first->first <= (offset + into.size() - 1) / sector)
                return tl::unexpected(first->second);
        }
        auto done = base_->read(offset, into);
        if (done || !done.error().unreadable()) return done;
        const std::lock_guard hold(lock_);
        if (refused_.size() < most_refused) refused_.emplace(done.error().byte / sector, done.error());
        any_.store(true, std::memory_order_release);
        return done;
    }
    [[nodiscard]] std::vector<std::pair<std::uint64_t, std::uint64_t>> asked() const override {
        const std::lock_guard hold(lock_);
        std::vector<std::pair<std::uint64_t, std::uint64_t>> out;
        for (const auto& [number, error] : refused_) {
            if (!out.empty() && out.back().first + out.back().second == number * sector) out.back().second += sector;
            else out.emplace_back(number * sector, sector);
        }
        return out;
    }

private:
    static constexpr std::uint64_t sector = 512;
    static constexpr std::size_t most_refused = 1U << 16U;
    Source base_;
    mutable std::atomic<bool> any_{false};
    mutable std::mutex lock_;
    mutable std::map<std::uint64_t, Error> refused_;  ///< by sector
};

}  // namespace

namespace {

class GoesOn final : public ByteSource {
public:
    explicit GoesOn(Source base) : base_(std::move(base)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return base_->size(); }
    [[nodiscard]] std::string place() const override { return base_->place(); }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        return base_->locate(offset, length);
    }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        auto done = base_->read(offset, into);
        if (done || !done.error().unreadable()) return done;
        constexpr std::uint64_t sector = 512;
        for (std::uint64_t at = 0; at < into.size();) {
            const auto piece =
                into.subspan(static_cast<std::size_t>(at))
                    .first(static_cast<std::size_t>(std::min(sector - (offset + at) % sector, into.size() - at)));
            if (auto part = base_->read(offset + at, piece); !part) {
                if (!part.error().unreadable()) return part;
                std::ranges::fill(piece, std::uint8_t{0});
            }
            at += piece.size();
        }
        return {};
    }

private:
    Source base_;
};

}  // namespace

Source zeros_for_losses(Source base) { return std::make_shared<const GoesOn>(std::move(base)); }

std::optional<Error> lost_within(const ByteSource& source, std::uint64_t offset, std::uint64_t length) {
    constexpr std::uint64_t piece = std::uint64_t{256} << 10U;
    if (offset >= source.size()) return std::nullopt;
    const std::uint64_t end = offset + std::min(length, source.size() - offset);
    std::vector<std::uint8_t> bytes(static_cast<std::size_t>(std::min(piece, end - offset)));
    for (std::uint64_t at = offset; at < end; at += piece) {
        const auto into = std::span(bytes).first(static_cast<std::size_t>(std::min(piece, end - at)));
        if (auto done = source.read(at, into); !done)
            return done.error().unreadable() ? std::optional(done.error()) : std::nullopt;
    }
    return std::nullopt;
}

Source steady(Source base) {
    if (dynamic_cast<const DamagedSource*>(base.get()) != nullptr) return base;
    return std::make_shared<const Steady>(std::move(base));
}

Result<std::shared_ptr<const ImageFile>> open_image(const std::string& path, int disk) {
    Descriptor descriptor(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
    if (descriptor.number() < 0) return fail(ErrorKind::Io, std::generic_category().message(errno), path);
    struct stat about {};
    std::uint64_t size = 0;
    bool usable = ::fstat(descriptor.number(), &about) == 0;
    std::string why = "not a regular file or block device";
    if (usable && S_ISREG(about.st_mode)) size = static_cast<std::uint64_t>(about.st_size);
    else if (usable && S_ISBLK(about.st_mode)) usable = ::ioctl(descriptor.number(), BLKGETSIZE64, &size) == 0;
    else {
        if (usable && S_ISDIR(about.st_mode)) why = "a directory, not a disk image";
        usable = false;
    }
    if (usable && size == 0) {
        usable = false;
        why = "an empty file, not a disk image";
    }
    if (!usable) return fail(ErrorKind::Io, why, path);
    return std::make_shared<const File>(std::move(descriptor), size, disk);
}

Source memory_source(std::vector<std::uint8_t> bytes, std::string place, int disk) {
    return std::make_shared<const Memory>(std::move(bytes), std::move(place), disk);
}

Source slice(Source base, std::uint64_t offset, std::uint64_t length, std::string place) {
    return std::make_shared<const Slice>(std::move(base), offset, length, std::move(place));
}

Source extent_source(Source base, std::vector<Extent> extents, std::uint64_t size, std::string place) {
    return std::make_shared<const Extents>(std::move(base), std::move(extents), size, std::move(place));
}

Source concatenate(std::vector<Source> parts, std::uint64_t alignment, std::string place) {
    if (parts.size() == 1) return std::move(parts.front());
    return std::make_shared<const Sequence>(std::move(parts), alignment, std::move(place));
}

std::shared_ptr<Overlay> overlay(Source base) { return std::make_shared<Layered>(std::move(base)); }

std::shared_ptr<const DamagedSource> with_unreadable(Source base,
                                                     std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges) {
    return std::make_shared<const Unreadable>(std::move(base), std::move(ranges));
}

}  // namespace herberge
