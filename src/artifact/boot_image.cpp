// SPDX-License-Identifier: MIT
#include "artifact/boot_image.hpp"

#include <openssl/evp.h>

#include <fmt/format.h>
#include <algorithm>
#include <memory>

namespace herberge {

namespace {

constexpr std::uint32_t legacy_magic = 0x27051956;
constexpr std::uint64_t most_content = std::uint64_t{1} << 30U;
constexpr std::uint64_t most_at_once = std::uint64_t{1} << 20U;

std::optional<std::uint32_t> crc_of(const ByteSource& source, std::uint64_t at, std::uint64_t length) {
    std::uint32_t sum = 0;
    for (std::uint64_t done = 0; done < length; done += most_at_once) {
        const auto part = source.bytes(at + done, std::min(most_at_once, length - done));
        if (!part) return std::nullopt;
        sum = crc32(sum, *part);
    }
    return sum;
}

/// The hash of a component, by the name that its node gives; empty: not computed here.
std::string hash_of(const ByteSource& source, std::uint64_t at, std::uint64_t length, const std::string& algorithm) {
    if (algorithm == "crc32") {
        const auto sum = crc_of(source, at, length);
        return sum ? fmt::format("{:08x}", *sum) : std::string{};
    }
    const EVP_MD* kind = algorithm == "sha1"     ? EVP_sha1()
                         : algorithm == "sha256" ? EVP_sha256()
                         : algorithm == "sha384" ? EVP_sha384()
                         : algorithm == "sha512" ? EVP_sha512()
                         : algorithm == "md5"    ? EVP_md5()
                                                 : nullptr;
    const std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> context(EVP_MD_CTX_new(), &EVP_MD_CTX_free);
    if (kind == nullptr || !context || EVP_DigestInit_ex(context.get(), kind, nullptr) != 1) return {};
    for (std::uint64_t done = 0; done < length; done += most_at_once) {
        const auto part = source.bytes(at + done, std::min(most_at_once, length - done));
        if (!part || EVP_DigestUpdate(context.get(), part->data(), part->size()) != 1) return {};
    }
    std::vector<std::uint8_t> digest(EVP_MAX_MD_SIZE);
    unsigned size = 0;
    if (EVP_DigestFinal_ex(context.get(), digest.data(), &size) != 1) return {};
    return hex(std::span(digest).first(size), "");
}

std::string slashed(std::string_view folder, std::string_view name) { return fmt::format("{}/{}", folder, name); }

}  // namespace

std::optional<Compression> legacy_compression(std::uint8_t number) {
    switch (number) {
        case 0: return Compression::None;
        case 1: return Compression::Gzip;
        case 2: return Compression::Bzip2;
        case 3: return Compression::Lzma;
        case 4: return Compression::Lzop;
        case 5: return Compression::Lz4Frame;
        case 6: return Compression::Zstd;
        default: return std::nullopt;
    }
}

Compression fit_compression(std::string_view name) {
    for (std::uint8_t number = 1; number <= 6; ++number)
        if (const auto kind = *legacy_compression(number); compression_name(kind) == name) return kind;
    return Compression::None;
}

std::optional<LegacyImage> inspect_legacy_image(const ByteSource& source, std::uint64_t at) {
    const auto header = source.load<ondisk::UbootLegacyImage>(at);
    if (!header || header->magic != legacy_magic) return std::nullopt;
    LegacyImage out;
    out.header = *header;
    auto blank = *header;
    blank.header_crc = 0;
    out.header_sound = crc32(0, {reinterpret_cast<const std::uint8_t*>(&blank), sizeof(blank)}) == header->header_crc;
    const std::uint64_t size = header->size;
    const std::uint64_t begin = at + LegacyImage::data_at;
    out.whole = size <= source.size() - begin && size <= most_content;
    if (!out.whole) return out;
    const auto sum = crc_of(source, begin, size);
    out.data_sound = sum && *sum == header->data_crc;
    if (header->type != uboot_id::several && header->type != uboot_id::script) return out;
    // Sizes first, up to a zero; each part is filled up to a multiple of 4 bytes.
    constexpr std::size_t most_parts = 64;
    std::vector<std::uint64_t> sizes;
    std::uint64_t table = 0;
    while (sizes.size() < most_parts && table + 4 <= size) {
        const auto one = source.load<ondisk::big_uint32_t>(begin + table);
        table += 4;
        if (!one || *one == 0) break;
        sizes.push_back(*one);
    }
    std::uint64_t offset = table;
    for (const std::uint64_t length : sizes) {
        if (offset > size || length > size - offset) break;
        out.parts.emplace_back(LegacyImage::data_at + offset, length);
        offset += (length + 3) / 4 * 4;
    }
    return out;
}

Result<Fit> Fit::open(const Source& source, std::uint64_t at) {
    auto tree = DeviceTree::open(*source, at);
    if (!tree) return tl::unexpected(tree.error());
    Fit out;
    out.tree_ = std::move(*tree);
    out.source_ = source;
    out.at_ = at;
    if (out.tree_.node("/images") < 0)
        return fail(ErrorKind::NotFound, "it is a device tree without images", source->place(), "/images", "absent");
    for (const char* wanted : {"description", "timestamp"})
        if (!out.tree_.has(out.tree_.node("/"), wanted) && out.lacks_.empty()) out.lacks_ = wanted;
    const int all = out.tree_.node("/configurations");
    if (all < 0) return out;
    out.default_ = out.tree_.text(all, "default");
    for (const int node : out.tree_.children(all)) {
        FitConfiguration one;
        one.name = out.tree_.name(node);
        one.description = out.tree_.text(node, "description");
        one.kernel = out.tree_.text(node, "kernel");
        one.ramdisk = out.tree_.text(node, "ramdisk");
        one.firmware = out.tree_.text(node, "firmware");
        one.trees = out.tree_.texts(node, "fdt");
        one.loadables = out.tree_.texts(node, "loadables");
        one.compatible = out.tree_.texts(node, "compatible");
        out.configurations_.push_back(std::move(one));
    }
    return out;
}

std::vector<std::string> Fit::images() const {
    std::vector<std::string> out;
    for (const int node : tree_.children(tree_.node("/images"))) out.push_back(tree_.name(node));
    return out;
}

std::optional<FitImage> Fit::image(const std::string& name) const {
    const int node = name.empty() || name.find('/') != std::string::npos ? -1 : tree_.node(slashed("/images", name));
    if (node < 0) return std::nullopt;
    FitImage out;
    out.name = name;
    out.description = tree_.text(node, "description");
    out.type = tree_.text(node, "type");
    out.arch = tree_.text(node, "arch");
    out.os = tree_.text(node, "os");
    out.compression = tree_.text(node, "compression");
    out.load = tree_.number(node, "load");
    out.entry = tree_.number(node, "entry");
    if (tree_.has(node, "data")) {
        const auto data = tree_.property(node, "data");
        out.offset = tree_.offset_of(data);
        out.length = data.size();
        out.data_there = true;
    } else if (const auto length = tree_.number(node, "data-size")) {
        // Behind the tree, filled up to 4 bytes, or at a place of its own.
        const auto behind = tree_.number(node, "data-offset");
        const auto position = tree_.number(node, "data-position");
        out.length = *length;
        out.offset = position ? *position : (tree_.size() + 3) / 4 * 4 + behind.value_or(0);
        const std::uint64_t room = source_->size() - at_;
        out.data_there = (position || behind) && out.offset <= room && out.length <= room - out.offset;
    }
    for (const int child : tree_.children(node)) {
        const auto label = tree_.name(child);
        if (label.starts_with("signature")) out.signed_by.push_back(tree_.text(child, "key-name-hint"));
        if (!label.starts_with("hash") || tree_.has(child, "uboot-ignore")) continue;
        FitImage::Hash hash;
        hash.node = label;
        hash.algorithm = tree_.text(child, "algo");
        hash.stored = hex(tree_.property(child, "value"), "");
        if (out.data_there) hash.computed = hash_of(*source_, at_ + out.offset, out.length, hash.algorithm);
        hash.known = !hash.computed.empty();
        hash.matches = hash.known && hash.computed == hash.stored;
        out.hashes.push_back(std::move(hash));
    }
    return out;
}

const FitConfiguration* Fit::find(std::string_view name) const {
    const auto found = std::ranges::find(configurations_, name, &FitConfiguration::name);
    return found != configurations_.end() ? &*found : nullptr;
}

const FitConfiguration* Fit::best_match(const std::vector<std::string>& board) const {
    const FitConfiguration* best = nullptr;
    std::size_t rank = board.size();
    for (const auto& one : configurations_) {
        auto fits = one.compatible;
        if (fits.empty() && !one.trees.empty()) {
            const auto component = image(one.trees.front());
            if (!component || !component->data_there ||
                (!component->compression.empty() && component->compression != "none"))
                continue;
            const auto tree = DeviceTree::open(*slice(source_, at_ + component->offset, component->length,
                                                      source_->place() + " (" + component->name + ")"));
            if (tree) fits = tree->texts(tree->node("/"), "compatible");
        }
        for (std::size_t i = 0; i < rank; ++i)
            if (std::ranges::find(fits, board[i]) != fits.end()) {
                rank = i;
                best = &one;
            }
    }
    return best;
}

}  // namespace herberge
