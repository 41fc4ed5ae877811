// SPDX-License-Identifier: MIT
// Where the files of units lie (systemd.unit(5), "Unit File Load Path"; basic/unit-file.c, shared/dropin.c of 252).
#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/files.hpp>
#include <herberge/finding.hpp>

namespace herberge::units {

/// A file or link that a generator would write; paths as there.
struct Generated {
    std::string text;     ///< of a file
    std::string link_to;  ///< of a link; empty: it is a file
    Evidence said;        ///< what it is made from
};
using GeneratedFiles = std::map<std::string, Generated>;

constexpr const char* generator_early = "/run/systemd/generator.early";
constexpr const char* generator = "/run/systemd/generator";
constexpr const char* generator_late = "/run/systemd/generator.late";

/// What a name stands for in the folders.
struct UnitFile {
    std::string path;  ///< the file; empty: there is none
    bool masked = false;
    bool unreadable = false;
    std::vector<std::string> names;  ///< all names that lead to it, the unit's own first
};

class UnitFiles {
public:
    /// `fs` must outlive it.
    UnitFiles(const FileSystem& fs, std::string volume);

    /// Adds what generators write; before any question below.
    void add(GeneratedFiles files);

    [[nodiscard]] UnitFile find(const std::string& name) const;
    /// The files that change a unit of these names: NAME.d, prefixes of it, its template's, its type's.
    [[nodiscard]] std::vector<std::string> drop_ins(const std::vector<std::string>& names) const;
    struct Link {
        std::string unit;  ///< the link's name
        std::string path;
    };
    /// The links in NAME.wants and its kin (`suffix` ".wants").
    [[nodiscard]] std::vector<Link> links(const std::vector<std::string>& names, std::string_view suffix) const;

    [[nodiscard]] Result<std::string> text(const std::string& path) const;
    [[nodiscard]] const Generated* generated(const std::string& path) const;
    /// "d1p2:/etc/systemd/system/x.service"
    [[nodiscard]] std::string place(const std::string& path) const;
    [[nodiscard]] const std::vector<Finding>& findings() const { return findings_; }

private:
    struct Entry {
        std::string name, path, link_to;
        bool link = false, empty = false, folder = false;
    };
    [[nodiscard]] std::vector<Entry> list(const std::string& folder) const;
    [[nodiscard]] bool is_null(const Entry& entry) const;
    void map_names() const;
    [[nodiscard]] std::vector<std::string> folders_of(const std::vector<std::string>& names, std::string_view suffix,
                                                      bool prefixes) const;

    const FileSystem& fs_;
    std::string volume_;
    GeneratedFiles generated_;
    std::vector<std::string> paths_;
    std::vector<std::string> real_;  ///< where these lead to, and they themselves
    mutable bool mapped_ = false;
    mutable std::map<std::string, std::string> ids_;             ///< a name: its file, or the name it is an alias of
    mutable std::map<std::string, std::set<std::string>> also_;  ///< a name: those that are aliases of it
    mutable std::set<std::string> folders_;                      ///< all NAME.d, NAME.wants … with their path
    mutable std::set<std::string> empty_;                        ///< files that mask
    mutable std::set<std::string> lost_;                         ///< files whose link cannot be followed
    mutable std::vector<Finding> findings_;
};

}  // namespace herberge::units
