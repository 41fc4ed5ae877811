// SPDX-License-Identifier: MIT
// What the package manager of an installed system recorded of its files.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/storage.hpp>

namespace herberge {

/// A file against the digest that its package brought.
struct PackageDigest {
    bool same = false;
    std::string package;   ///< "linux-image-6.1.0-1-amd64"
    std::string list;      ///< the file with the digest: "/var/lib/dpkg/info/….md5sums"
    std::string expected;  ///< MD5 in hexadecimal
    std::string found;
};

/// The lists on one root file system, which must outlive this. Their folder is read once.
class PackageLists {
public:
    explicit PackageLists(const FileSystem& root);
    /// Looks in the lists of packages whose name begins with one of `packages` for `path` (absolute, links followed;
    /// /usr may be left out as merged systems do). None: no list names it, or the file cannot be read. Files of up to
    /// 256 MiB.
    [[nodiscard]] std::optional<PackageDigest> digest(std::string_view path, const ByteSource& file,
                                                      const std::vector<std::string>& packages) const;

private:
    const FileSystem& root_;
    std::vector<std::string> names_;  ///< of the lists, in the folder's order
};

}  // namespace herberge
