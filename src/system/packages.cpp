// SPDX-License-Identifier: MIT
#include "system/packages.hpp"

#include <fmt/format.h>
#include <openssl/evp.h>
#include <algorithm>

#include "artifact/pkcs7.hpp"

namespace herberge {

namespace {

constexpr std::string_view folder = "/var/lib/dpkg/info";
constexpr std::string_view ending = ".md5sums";
constexpr std::uint64_t most_file = std::uint64_t{256} << 20U;
constexpr std::uint64_t most_list = std::uint64_t{4} << 20U;

/// The digest that a list gives for `path`; lines are a digest, two blanks, and a path without its first slash.
std::optional<std::string> listed(std::string_view list, std::string_view path) {
    constexpr std::size_t digest = 32;
    std::string_view other = path;
    if (other.starts_with("usr/")) other.remove_prefix(4);
    while (!list.empty()) {
        const auto end = std::min(list.find('\n'), list.size());
        const auto line = list.substr(0, end);
        list.remove_prefix(std::min(end + 1, list.size()));
        if (line.size() < digest + 3) continue;
        auto name = line.substr(digest + 2);
        if (name.starts_with("usr/")) name.remove_prefix(4);
        if (name == other) return std::string(line.substr(0, digest));
    }
    return std::nullopt;
}

}  // namespace

PackageLists::PackageLists(const FileSystem& root) : root_(root) {
    const auto directory = resolve(root, folder);
    const auto entries = directory && directory->file.type == FileType::Directory ? root.list(directory->file.id)
                                                                                  : fail(ErrorKind::NotFound, {});
    if (!entries) return;
    for (const auto& entry : *entries)
        if (entry.name.ends_with(ending)) names_.push_back(entry.name);
}

std::optional<PackageDigest> PackageLists::digest(std::string_view path, const ByteSource& file,
                                                  const std::vector<std::string>& packages) const {
    while (path.starts_with('/')) path.remove_prefix(1);
    for (const auto& name : names_) {
        if (std::ranges::none_of(packages, [&](const std::string& p) { return name.starts_with(p); })) continue;
        PackageDigest out;
        out.list = fmt::format("{}/{}", folder, name);
        const auto text = read_text_file(root_, out.list, most_list);
        const auto digest = text ? listed(*text, path) : std::nullopt;
        if (!digest) continue;
        const auto bytes = file.bytes(0, file.size(), most_file);
        if (!bytes) return std::nullopt;
        out.package = name.substr(0, name.size() - ending.size());
        out.package = out.package.substr(0, out.package.find(':'));
        out.expected = *digest;
        out.found = hex(pkcs7::digest_of(*bytes, EVP_md5()), "");
        out.same = out.expected == out.found;
        return out;
    }
    return std::nullopt;
}

}  // namespace herberge
