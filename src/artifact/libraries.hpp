// SPDX-License-Identifier: MIT
// What a dynamic program needs besides itself, found as its own loader finds it.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include <herberge/artifact.hpp>

namespace herberge {

/// What stands for a loader's words where a library ends before its segments do: it is killed, and says nothing.
inline constexpr std::string_view killed_at_the_end = "(the program dies of a bus error)";

/// A file that a dynamic loader may take for a library.
struct LibraryFile {
    std::string path;                    ///< the real path, links followed
    std::uint64_t size = 0;              ///< bytes
    std::shared_ptr<const ElfInfo> elf;  ///< null: none that could be parsed
    std::optional<Error> problem;        ///< why not
};

/// Where a dynamic loader looks: a root file system, a RAM disk.
class ProgramFiles {
public:
    virtual ~ProgramFiles() = default;
    /// None: there is no such regular file.
    [[nodiscard]] virtual std::optional<LibraryFile> find(const std::string& path) const = 0;
    /// A small text or binary file; empty: not there.
    [[nodiscard]] virtual std::string content(const std::string& path) const = 0;
    /// What a path is called in evidence.
    [[nodiscard]] virtual std::string place(std::string_view path) const = 0;
};

struct LibraryProblem {
    std::string library;    ///< "libc.so.6"
    std::string needed_by;  ///< the real path of the object that names it
    std::string words;      ///< the loader's own: "cannot open shared object file: No such file or directory"
    bool unreadable = false;
    Evidence evidence;
};

/// The first library of `program` (at the real path `path`), or of its libraries, that its loader would not get; none:
/// all are there. Follows DT_NEEDED with RPATH, RUNPATH, ld.so.cache and the default directories of glibc
/// (elf/dl-load.c) or musl (ldso/dynlink.c); at most 400 objects. Symbol versions are not compared. `found`, when
/// given, receives the real paths of what it gets.
[[nodiscard]] std::optional<LibraryProblem> library_problem(const ProgramFiles& files, const std::string& path,
                                                            const ElfInfo& program,
                                                            std::vector<std::string>* found = nullptr);

/// The path that /etc/ld.so.cache (format "glibc-ld.so.cache1.1") gives for each of its names, in the file's order.
[[nodiscard]] std::vector<std::pair<std::string, std::string>> read_library_cache(std::string_view cache);

/// The RAM disk's files for a program that runs in it.
[[nodiscard]] std::unique_ptr<ProgramFiles> program_files(const Ramdisk& ramdisk);
/// The same for a root file system; both arguments must outlive the result.
[[nodiscard]] std::unique_ptr<ProgramFiles> program_files(const FileSystem& fs, std::string_view volume);

}  // namespace herberge
