// SPDX-License-Identifier: MIT
// Opening LUKS volumes: the passphrase's way to the key, and the content behind it.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <string.h>  // explicit_bzero
#include <algorithm>
#include <map>
#include <mutex>

#include "unlock/ciphers.hpp"
#include "unlock/luks_header.hpp"

namespace herberge {

void Secret::wipe() noexcept {
    if (!bytes_.empty()) explicit_bzero(bytes_.data(), bytes_.size());
}
Secret& Secret::operator=(Secret&& other) noexcept {
    if (this == &other) return *this;
    wipe();
    bytes_ = std::move(other.bytes_);
    other.bytes_.clear();
    return *this;
}
Secret::~Secret() { wipe(); }

namespace luks {

namespace {

/// The content: sectors deciphered as they are read.
class Content : public ByteSource {
public:
    Content(Source base, std::shared_ptr<const ciphers::SectorCipher> cipher, const LuksDescription& told,
            std::string place)
        : base_(std::move(base)),
          cipher_(std::move(cipher)),
          begin_(told.data_offset),
          size_((told.data_size != 0 ? std::min(told.data_size, base_->size() - begin_) : base_->size() - begin_) /
                told.sector * told.sector),
          sector_(told.sector),
          first_number_(told.first_number),
          place_(std::move(place)) {}

    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return place_; }

    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (offset > size_ || into.size() > size_ - offset)
            return fail(ErrorKind::OutOfRange, "a read past the end", place_, fmt::format("at most {} bytes", size_),
                        fmt::format("{} bytes at byte {}", into.size(), offset));
        constexpr std::uint64_t most_at_once = std::uint64_t{256} << 10U;
        std::vector<std::uint8_t> whole;
        while (!into.empty()) {
            const std::uint64_t from = offset / sector_ * sector_;
            const std::uint64_t wanted = std::min<std::uint64_t>(into.size(), most_at_once);
            const std::uint64_t end = (offset + wanted + sector_ - 1) / sector_ * sector_;
            whole.resize(static_cast<std::size_t>(end - from));
            if (auto done = base_->read(begin_ + from, whole); !done) return done;
            for (std::uint64_t at = from; at < end; at += sector_) {
                const auto sector =
                    std::span(whole).subspan(static_cast<std::size_t>(at - from), static_cast<std::size_t>(sector_));
                if (auto done = cipher_->decipher(first_number_ + at / 512, sector); !done) return done;
            }
            const auto part =
                std::span(whole).subspan(static_cast<std::size_t>(offset - from), static_cast<std::size_t>(wanted));
            std::ranges::copy(part, into.begin());
            into = into.subspan(part.size());
            offset += part.size();
        }
        return {};
    }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        if (offset > size_ || length > size_ - offset) return {};
        return base_->locate(begin_ + offset, length);
    }

private:
    Source base_;
    std::shared_ptr<const ciphers::SectorCipher> cipher_;
    std::uint64_t begin_, size_, sector_, first_number_;
    std::string place_;
};

Result<Secret> slot_key(const Slot& slot, std::span<const std::uint8_t> passphrase) {
    if (slot.told.derivation.starts_with("pbkdf2"))
        return ciphers::pbkdf2(slot.derivation_hash, passphrase, slot.salt, slot.told.rounds, slot.area_key_bytes);
    return ciphers::argon2({slot.told.derivation, slot.told.rounds, slot.told.memory, slot.told.lanes}, passphrase,
                           slot.salt, slot.area_key_bytes);
}

/// The content's key as this slot gives it, whether it is right or not.
Result<Secret> candidate(const ByteSource& volume, const Slot& slot, std::span<const std::uint8_t> passphrase) {
    constexpr std::size_t sector = 512;
    if (slot.told.problem) return tl::unexpected(*slot.told.problem);
    if (ciphers::digest_size(slot.stripes_hash) == 0)
        return fail(ErrorKind::Unsupported, fmt::format("the hash {} is not known", slot.stripes_hash), volume.place());
    const auto key = slot_key(slot, passphrase);
    if (!key) return tl::unexpected(key.error());
    const auto cipher = ciphers::SectorCipher::make(slot.told.cipher, key->bytes());
    if (!cipher) return tl::unexpected(cipher.error());
    const std::size_t length = slot.key_bytes * static_cast<std::size_t>(slot.stripes);
    auto bytes = volume.bytes(slot.told.offset, (length + sector - 1) / sector * sector);
    if (!bytes) return tl::unexpected(bytes.error());
    Secret material(std::move(*bytes));
    for (std::size_t at = 0; at < material.bytes().size(); at += sector)
        if (auto done = (*cipher)->decipher(at / sector, material.bytes().subspan(at, sector)); !done)
            return tl::unexpected(done.error());
    return ciphers::merge_stripes(slot.stripes_hash, material.bytes().first(length), slot.key_bytes,
                                  static_cast<std::size_t>(slot.stripes));
}

bool is_right(const Header& header, const Secret& key) {
    const auto found = ciphers::pbkdf2(header.digest.hash, key.bytes(), header.digest.salt, header.digest.rounds,
                                       header.digest.value.size());
    return found && !header.digest.value.empty() && std::ranges::equal(found->bytes(), header.digest.value);
}

/// What may have been meant: the bytes as they are (a key file), and the first line (a passphrase).
std::vector<std::span<const std::uint8_t>> readings(const Secret& secret) {
    const auto all = secret.bytes();
    const auto end = std::ranges::find(all, std::uint8_t{'\n'});
    std::vector<std::span<const std::uint8_t>> out;
    if (end != all.end()) {
        auto line = all.first(static_cast<std::size_t>(end - all.begin()));
        if (!line.empty() && line.back() == '\r') line = line.first(line.size() - 1);
        if (!line.empty()) out.push_back(line);
    }
    out.push_back(all);
    return out;
}

}  // namespace

}  // namespace luks

namespace {

/// What opening a volume found out.
struct Opened {
    LuksDescription told;
    std::shared_ptr<const ciphers::SectorCipher> cipher;

    [[nodiscard]] Source content(Source volume, std::string place) const {
        return std::make_shared<luks::Content>(std::move(volume), cipher, told, std::move(place));
    }
};

Result<Opened> unlock(const ByteSource& volume, const Secret& secret) {
    auto header = luks::read_header(volume);
    if (!header) return tl::unexpected(header.error());
    if (header->told.beyond) return tl::unexpected(*header->told.beyond);
    std::vector<std::string> tried;
    std::optional<Error> other;  // a slot that could not be tried
    for (const auto& slot : header->slots) {
        bool asked = true;
        for (const auto& passphrase : luks::readings(secret)) {
            const auto key = luks::candidate(volume, slot, passphrase);
            if (!key) {
                other = key.error();
                asked = false;
                break;
            }
            if (!luks::is_right(*header, *key)) continue;
            auto cipher = ciphers::SectorCipher::make(header->told.cipher, key->bytes());
            if (!cipher) return tl::unexpected(cipher.error());
            return Opened{std::move(header->told), std::move(*cipher)};
        }
        if (asked) tried.push_back(fmt::format("{} ({})", slot.told.number, slot.told.derivation));
    }
    if (tried.empty() && other) return tl::unexpected(*other);
    if (tried.empty()) return fail(ErrorKind::NotFound, "no key slot is in use", volume.place());
    return fail(ErrorKind::NotFound,
                fmt::format("no key slot opens by it (tried: {}{}{})", fmt::join(tried, ", "),
                            other ? "; not tried: " : "", other ? other->what : ""),
                volume.place());
}

/// What was opened is kept: a machine is put together in rounds, and again for what its firmware makes of it, and each
/// derivation takes seconds.
class LuksLayer {
public:
    explicit LuksLayer(std::vector<VolumeKey> keys) : keys_(std::move(keys)) {}

    Assembly assemble(std::span<const VolumeRef> members) {
        const std::scoped_lock hold(lock_);
        Assembly out;
        for (const auto& member : members)
            for (const auto& key : keys_) {
                if (key.place != member->place || key.secret == nullptr) continue;
                const auto& result = opened(*member, key);
                if (result) {
                    out.made.push_back(made(member, *result));
                    out.understood.push_back(member);
                    break;
                }
                out.findings.push_back(
                    make_finding(Code::LuksKeyRefused,
                                 fmt::format("{} does not open {}: {}", key.origin, member->place, result.error().what),
                                 {evidence_error(result.error())}));
            }
        return out;
    }

private:
    const Result<Opened>& opened(const Volume& member, const VolumeKey& key) {
        constexpr std::uint64_t head = 16384;
        const auto start = member.source->bytes(0, std::min(head, member.source->size()));
        const auto id = fmt::format("{}\n{}\n{}", member.place, key.origin,
                                    start ? hex(ciphers::digest("sha256", {*start}), "") : "");
        auto known = opened_.find(id);
        if (known == opened_.end()) known = opened_.emplace(id, unlock(*member.source, *key.secret)).first;
        return known->second;
    }
    VolumeRef made(const VolumeRef& member, const Opened& opened) {
        // The same member gives the same volume: what is made of that stays as it is.
        const auto same = std::ranges::find(made_, member, [](const VolumeRef& v) { return v->made_of.front(); });
        if (same != made_.end()) return *same;
        // GRUB writes the UUID without hyphens (grub-core/disk/luks.c).
        std::string plain = member->info.uuid;
        std::erase(plain, '-');
        const LayerNames names{{"mapper/luks-" + member->info.uuid}, {"cryptouuid/" + plain}};
        return made_.emplace_back(
            std::make_shared<const Volume>(NodeKind::Unlocked, opened.content(member->source, "open/" + member->place),
                                           std::vector<VolumeRef>{member}, names));
    }

    std::mutex lock_;
    std::vector<VolumeKey> keys_;
    std::map<std::string, Result<Opened>> opened_;
    std::vector<VolumeRef> made_;
};

}  // namespace

Result<Source> open_luks(const Source& volume, const Secret& secret, std::string place) {
    const auto opened = unlock(*volume, secret);
    if (!opened) return tl::unexpected(opened.error());
    return opened->content(volume, std::move(place));
}

Layer luks_layer(std::vector<VolumeKey> keys) {
    auto layer = std::make_shared<LuksLayer>(std::move(keys));
    return {"LUKS", Family::Luks, [layer](std::span<const VolumeRef> members) { return layer->assemble(members); }};
}

}  // namespace herberge
