// SPDX-License-Identifier: MIT
// Sources: kernel drivers/md/raid0.c, raid5.c (raid5_compute_sector), raid10.c (__raid10_find_phys), and H. P. Anvin,
// "The mathematics of RAID-6".
#include "storage/raid_source.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>

#include "storage/pieces.hpp"

namespace herberge {

namespace {

// --- arithmetic of RAID 6: bytes as polynomials modulo x^8 + x^4 + x^3 + x^2 + 1 -------------------------------------

struct Tables {
    std::array<std::uint8_t, 512> power{};  ///< of 2
    std::array<std::uint8_t, 256> log{};
    constexpr Tables() {
        unsigned value = 1;
        for (unsigned i = 0; i < 255; ++i) {
            power[i] = power[i + 255] = static_cast<std::uint8_t>(value);
            log[value] = static_cast<std::uint8_t>(i);
            value <<= 1U;
            if ((value & 0x100U) != 0) value ^= 0x11DU;
        }
    }
};
constexpr Tables tables;

std::uint8_t times(std::uint8_t a, std::uint8_t b) {
    return a == 0 || b == 0 ? std::uint8_t{0} : tables.power[tables.log[a] + std::size_t{tables.log[b]}];
}
std::uint8_t inverse(std::uint8_t a) { return tables.power[255U - tables.log[a]]; }

/// Where the parts of one stripe of levels 4 to 6 lie.
struct Stripe {
    std::size_t data = 0;  ///< member that has the data
    std::size_t p = 0;
    std::optional<std::size_t> q;
    std::size_t index = 0;  ///< the data's number within the stripe
};

/// Levels 4 to 6: data and checks in turn.
class Checked final : public ChunkedSource {
public:
    Checked(const RaidShape& shape, std::vector<Source> members, std::string place)
        : ChunkedSource(std::move(place)),
          shape_(shape),
          members_(std::move(members)),
          data_(members_.size() - checks()) {
        set_size(shape_.size / shape_.chunk * shape_.chunk * data_);
        // Where data lies is as in the four plain layouts.
        layout_ = shape_.layout == rotating_zero ? 1 : shape_.layout == rotating_zero + 1 ? 0 : shape_.layout;
    }

    /// Whether this driver knows the layout.
    static bool knows(const RaidShape& shape) {
        return shape.level == 4 || shape.layout <= 3 || (shape.level == 6 && shape.layout >= 8 && shape.layout <= 10);
    }

private:
    [[nodiscard]] Piece piece(std::uint64_t offset) const override {
        const std::uint64_t number = offset / shape_.chunk;
        const std::uint64_t within = offset % shape_.chunk;
        return {members_[stripe_of(number).data].get(), number / data_ * shape_.chunk + within, shape_.chunk - within};
    }
    /// What a missing member had, from the others; a part of it at a time.
    Result<std::size_t> made_up(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        constexpr std::size_t most = 64 * 1024;
        const auto part = into.first(std::min(into.size(), most));
        const auto done = compute(stripe_of(offset / shape_.chunk), piece(offset).at, part);
        if (!done) return tl::unexpected(done.error());
        return part.size();
    }

    [[nodiscard]] std::size_t checks() const { return shape_.level == 6 ? 2 : 1; }

    [[nodiscard]] Stripe stripe_of(std::uint64_t number) const {
        const std::size_t count = members_.size();
        const auto row = static_cast<std::size_t>(number / data_ % count);
        Stripe out;
        out.index = static_cast<std::size_t>(number % data_);
        if (shape_.level == 4) {
            out.p = data_;
            out.data = out.index;
            return out;
        }
        // Left: the check wanders from the last member to the first; right: the other way.
        const bool right = layout_ == 1 || layout_ == 3;
        out.p = right ? row : count - 1 - row;
        if (shape_.level == 6) out.q = (out.p + (shape_.layout == rotating_continue ? count - 1 : 1)) % count;
        out.data = member_of(out, out.index);
        return out;
    }

    /// The member that holds data number `index` of this stripe.
    [[nodiscard]] std::size_t member_of(const Stripe& stripe, std::size_t index) const {
        const std::size_t count = members_.size();
        if (shape_.level == 4) return index;
        const bool symmetric = layout_ >= 2;
        if (shape_.layout == rotating_continue) return (stripe.p + 1 + index) % count;
        if (shape_.level == 5) {
            if (symmetric) return (stripe.p + 1 + index) % count;
            return index >= stripe.p ? index + 1 : index;
        }
        if (symmetric) return (stripe.p + 2 + index) % count;
        if (stripe.p == count - 1) return index + 1;  // Q is the first one
        return index >= stripe.p ? index + 2 : index;
    }

    /// The power of 2 by which Q counts a member: their order begins behind Q (raid5.c, raid6_idx_to_slot).
    [[nodiscard]] std::uint8_t factor_of(const Stripe& stripe, std::size_t member) const {
        if (!stripe.q) return 1;
        // The rotating layouts, of other makers' arrays and of LVM, count members from the first one on, checks
        // included.
        if (shape_.layout >= rotating_zero) return tables.power[member % 255];
        return tables.power[(member + members_.size() - *stripe.q - 1) % members_.size() % 255];
    }

    Result<void> compute(const Stripe& stripe, std::uint64_t at, std::span<std::uint8_t> into) const {
        const std::size_t length = into.size();
        std::vector<std::uint8_t> other(length);
        std::vector<std::uint8_t> p(length);
        std::vector<std::uint8_t> q(length);
        // What one member does not give is like one that is not there.
        std::optional<std::size_t> second;  // another missing data member, by its number in the stripe
        Error lost{ErrorKind::NotFound, "no copy of this part is there", place(), {}, {}};
        const auto gives = [&](std::size_t number) {
            if (members_[number] == nullptr) return false;
            auto done = members_[number]->read(at, other);
            if (!done) lost = std::move(done.error());
            return done.has_value();
        };
        for (std::size_t i = 0; i < data_; ++i) {
            if (i == stripe.index) continue;
            if (!gives(member_of(stripe, i))) {
                if (second || !stripe.q) return tl::unexpected(lost);
                second = i;
                continue;
            }
            const std::uint8_t factor = factor_of(stripe, member_of(stripe, i));
            for (std::size_t k = 0; k < length; ++k) {
                p[k] ^= other[k];
                q[k] ^= times(factor, other[k]);
            }
        }
        const bool with_p = gives(stripe.p);
        if (with_p)
            for (std::size_t k = 0; k < length; ++k) p[k] ^= other[k];
        if (with_p && !second) {
            std::ranges::copy(p, into.begin());
            return {};
        }
        if (!stripe.q || (!with_p && second) || !gives(*stripe.q)) return tl::unexpected(lost);
        for (std::size_t k = 0; k < length; ++k) q[k] ^= other[k];
        const std::uint8_t a = factor_of(stripe, stripe.data);
        if (!second) {
            const std::uint8_t by = inverse(a);
            for (std::size_t k = 0; k < length; ++k) into[k] = times(by, q[k]);
            return {};
        }
        // p = x + y, q = a x + b y: x = (q + b p) / (a + b).
        const std::uint8_t b = factor_of(stripe, member_of(stripe, *second));
        const std::uint8_t by = inverse(a ^ b);
        for (std::size_t k = 0; k < length; ++k) into[k] = times(by, static_cast<std::uint8_t>(q[k] ^ times(b, p[k])));
        return {};
    }

    static constexpr std::uint32_t rotating_zero = 8, rotating_continue = 10;

    RaidShape shape_;
    std::vector<Source> members_;
    std::size_t data_;          ///< members that have data, in each stripe
    std::uint32_t layout_ = 0;  ///< 0 left, 1 right asymmetric; 2 left, 3 right symmetric
};

/// Level 10: each chunk has several copies.
class Copied final : public ChunkedSource {
public:
    Copied(const RaidShape& shape, std::vector<Source> members, std::string place)
        : ChunkedSource(std::move(place)),
          shape_(shape),
          members_(std::move(members)),
          near_(shape.layout & 0xFFU),
          far_(shape.layout >> 8U & 0xFFU),
          offset_((shape.layout & 0x10000U) != 0) {
        const std::uint64_t chunks = shape_.size / shape_.chunk;
        stride_ = offset_ ? shape_.chunk : chunks / far_ * shape_.chunk;
        set_size(chunks / far_ * members_.size() / near_ * shape_.chunk);
    }
    static bool knows(const RaidShape& shape, std::size_t members) {
        const unsigned near = shape.layout & 0xFFU;
        const unsigned far = shape.layout >> 8U & 0xFFU;
        return near != 0 && far != 0 && near * far <= members && shape.layout >> 17U == 0;
    }
    /// Every chunk has a copy that is there.
    [[nodiscard]] bool complete() const {
        for (std::uint64_t chunk = 0; chunk < members_.size(); ++chunk)
            if (piece(chunk * shape_.chunk).part == nullptr) return false;
        return true;
    }

private:
    [[nodiscard]] Piece piece(std::uint64_t offset) const override { return copy(offset, 0); }
    Result<std::size_t> made_up(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        Error lost{ErrorKind::NotFound, "no copy of this part is there", place(), {}, {}};
        for (unsigned passed = 1; passed < near_ * far_; ++passed) {
            const auto [part, at, room] = copy(offset, passed);
            if (part == nullptr) break;
            const auto some = static_cast<std::size_t>(std::min<std::uint64_t>(room, into.size()));
            auto done = part->read(at, into.first(some));
            if (done) return some;
            lost = std::move(done.error());
        }
        return tl::unexpected(std::move(lost));
    }

    /// The copy behind `passed` others of those that are there.
    [[nodiscard]] Piece copy(std::uint64_t offset, unsigned passed) const {
        const std::uint64_t count = members_.size();
        const std::uint64_t chunk = offset / shape_.chunk * near_;
        const std::uint64_t room = shape_.chunk - offset % shape_.chunk;
        std::uint64_t stripe = chunk / count;
        std::uint64_t member = chunk % count;
        if (offset_) stripe *= far_;
        std::uint64_t at = stripe * shape_.chunk + offset % shape_.chunk;
        for (unsigned n = 0; n < near_; ++n) {
            std::uint64_t d = member;
            std::uint64_t s = at;
            for (unsigned f = 0; f < far_; ++f) {
                if (members_[d] != nullptr && passed-- == 0) return {members_[d].get(), s, room};
                d = (d + near_) % count;
                s += stride_;
            }
            if (++member >= count) {
                member = 0;
                at += shape_.chunk;
            }
        }
        return {nullptr, 0, room};
    }

    RaidShape shape_;
    std::vector<Source> members_;
    unsigned near_, far_;
    bool offset_;
    std::uint64_t stride_ = 0;
};

/// Level 1: each member has all.
class Mirrored final : public ChunkedSource {
public:
    Mirrored(std::vector<Source> members, std::uint64_t size, std::string place)
        : ChunkedSource(std::move(place)), members_(std::move(members)) {
        std::erase(members_, nullptr);
        for (const auto& member : members_) size = std::min(size, member->size());
        set_size(size);
    }

private:
    [[nodiscard]] Piece piece(std::uint64_t offset) const override {
        return {members_.front().get(), offset, size() - offset};
    }
    Result<std::size_t> made_up(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        Error lost{ErrorKind::NotFound, "no copy of this part is there", place(), {}, {}};
        for (std::size_t i = 1; i < members_.size(); ++i) {
            auto done = members_[i]->read(offset, into);
            if (done) return into.size();
            lost = std::move(done.error());
        }
        return tl::unexpected(std::move(lost));
    }

    std::vector<Source> members_;
};

}  // namespace

Result<Source> raid_source(const RaidShape& shape, std::vector<Source> members, std::string place) {
    const auto missing = static_cast<std::size_t>(std::ranges::count(members, nullptr));
    const auto few = [&] {
        return fail(
            ErrorKind::NotFound,
            fmt::format("{} of its {} members are there, which is too few", members.size() - missing, members.size()),
            place);
    };
    if (members.empty() || members.size() > most_raid_members)
        return fail(ErrorKind::Malformed, "an array with an impossible number of members", place);
    if (shape.level == 1) {
        const auto first = std::ranges::find_if(members, [](const Source& m) { return m != nullptr; });
        if (first == members.end()) return few();
        return std::make_shared<const Mirrored>(std::move(members), shape.size, place);
    }
    if (shape.level == RaidShape::linear) {
        if (missing != 0) return few();
        return concatenate(std::move(members), 0, place);
    }
    if (shape.chunk == 0 || shape.chunk > (std::uint64_t{1} << 30U))
        return fail(ErrorKind::Malformed, "an array with an impossible chunk size", place);
    switch (shape.level) {
        case 0: {
            if (missing != 0) return few();
            const auto length = [&](const Source& m) { return m->size() / shape.chunk; };
            if (std::ranges::any_of(members, [&](const Source& m) { return length(m) != length(members.front()); }))
                return fail(ErrorKind::Unsupported, "a RAID 0 of members that differ in size, which is not read here",
                            place);
            const std::uint64_t size = length(members.front()) * shape.chunk * members.size();
            return striped_source(std::move(members), shape.chunk, size, place);
        }
        case 4:
        case 5:
        case 6: {
            const std::size_t spare = shape.level == 6 ? 2 : 1;
            if (members.size() < spare + 1) return fail(ErrorKind::Malformed, "an array of too few members", place);
            if (!Checked::knows(shape))
                return fail(ErrorKind::Unsupported,
                            fmt::format("a RAID {} of layout {}, which is not read here", shape.level, shape.layout),
                            place);
            if (missing > spare) return few();
            return std::make_shared<const Checked>(shape, std::move(members), place);
        }
        case 10: {
            if (!Copied::knows(shape, members.size()))
                return fail(ErrorKind::Unsupported,
                            fmt::format("a RAID 10 of layout {:x}, which is not read here", shape.layout), place);
            auto out = std::make_shared<const Copied>(shape, members, place);
            if (!out->complete()) return few();
            return out;
        }
        default: break;
    }
    return fail(ErrorKind::Unsupported, fmt::format("a RAID of level {}, which is not read here", shape.level), place);
}

}  // namespace herberge
