// SPDX-License-Identifier: MIT
#include "system/signed_files.hpp"

#include <algorithm>

namespace herberge {

namespace {

constexpr std::size_t most_catalogues = 50'000;
constexpr std::size_t most_listed = 8'000'000;

std::array<std::uint8_t, 32> padded(std::span<const std::uint8_t> digest) {
    std::array<std::uint8_t, 32> out{};
    std::copy_n(digest.begin(), std::min(digest.size(), out.size()), out.begin());
    return out;
}

}  // namespace

SignedFiles::SignedFiles(const FileSystem& fs, std::string directory, std::string volume)
    : fs_(fs), directory_(std::move(directory)), volume_(std::move(volume)) {}

void SignedFiles::load() {
    if (loaded_) return;
    loaded_ = true;
    const std::string root = directory_ + "/System32/CatRoot";
    const auto top = resolve(fs_, root);
    const auto groups =
        top && top->file.type == FileType::Directory ? fs_.list(top->file.id) : fail(ErrorKind::NotFound, "none");
    if (!groups) return;
    for (const auto& group : *groups) {
        if (group.type != FileType::Directory || group.name.starts_with('.')) continue;
        const auto names = fs_.list(group.id);
        if (!names) continue;
        for (const auto& entry : *names) {
            if (!lower_text(entry.name).ends_with(".cat") || paths_.size() >= most_catalogues ||
                listed_.size() >= most_listed)
                continue;
            const std::string path = root + "/" + group.name + "/" + entry.name;
            const auto source = fs_.open(entry.id, volume_ + ":" + path);
            const auto catalogue = source ? read_catalogue(**source, false) : tl::unexpected(source.error());
            if (!catalogue) continue;
            for (const auto& digest : catalogue->digests)
                listed_.push_back({digest, static_cast<std::uint32_t>(paths_.size())});
            paths_.push_back(path);
        }
    }
    std::ranges::sort(listed_, {}, &Listed::digest);
}

std::optional<std::uint32_t> SignedFiles::find(std::span<const std::uint8_t> digest) const {
    const auto wanted = padded(digest);
    const auto at = std::ranges::lower_bound(listed_, wanted, {}, &Listed::digest);
    return at != listed_.end() && at->digest == wanted ? std::optional(at->catalogue) : std::nullopt;
}

std::size_t SignedFiles::catalogues() {
    load();
    return paths_.size();
}

FileSignature SignedFiles::of(const ByteSource& image) {
    FileSignature out;
    if (const auto inside = image_signatures(image); !inside.empty()) {
        const auto good =
            std::ranges::find_if(inside, [](const ImageSignature& s) { return s.digest_matches && s.intact; });
        const auto& told = good != inside.end() ? *good : inside.front();
        out.kind = good != inside.end() ? FileSignature::Kind::Inside : FileSignature::Kind::Broken;
        if (!told.chain.empty()) out.by = told.chain.front().subject;
        out.time = told.time;
        out.chain_problem = told.chain_problem;
        return out;
    }
    load();
    for (const char* algorithm : {"SHA256", "SHA1"}) {
        const auto digest = authenticode_digest(image, algorithm);
        if (!digest) return out;
        const auto at = find(*digest);
        if (!at) continue;
        const auto found = resolve(fs_, paths_[*at]);
        const auto source =
            found ? fs_.open(found->file.id, volume_ + ":" + paths_[*at]) : fail(ErrorKind::NotFound, "none");
        const auto catalogue = source ? read_catalogue(**source) : tl::unexpected(source.error());
        if (!catalogue) continue;
        out.kind = catalogue->intact ? FileSignature::Kind::Catalogue : FileSignature::Kind::Broken;
        out.by = catalogue->signer;
        out.catalogue = paths_[*at];
        out.time = catalogue->time;
        return out;
    }
    out.kind = FileSignature::Kind::None;
    out.looked_in = paths_.size();
    return out;
}

}  // namespace herberge
