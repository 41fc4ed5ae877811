// SPDX-License-Identifier: MIT
#pragma once

#include <algorithm>
#include <array>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <string>
#include <vector>

#include <gtest/gtest.h>

#include <herberge/herberge.hpp>

#include "demo_disks.hpp"
#include "schema_check.hpp"

namespace herberge {
/// How GoogleTest prints a code.
inline std::ostream& operator<<(std::ostream& out, Code code) { return out << code_id(code); }
}  // namespace herberge

namespace support {

using forge::Bytes;

/// The machine with these disks, as the tool makes it: layers put together.
inline herberge::Machine machine_of_disks(std::vector<Bytes> images) {
    herberge::Machine machine;
    for (auto& image : images) {
        const int number = static_cast<int>(machine.disks.size()) + 1;
        machine.disks.push_back(herberge::inspect_disk(
            herberge::memory_source(std::move(image), "d" + std::to_string(number), number), number, "test.img"));
    }
    herberge::assemble_layers(machine);
    return machine;
}
inline herberge::Machine machine_of(Bytes image) {
    std::vector<Bytes> one;
    one.push_back(std::move(image));
    return machine_of_disks(std::move(one));
}

/// What of a system's files lies on a /boot of its own, under the names that it has in the whole tree.
inline forge::Tree boot_files(const forge::Tree& root) {
    forge::Tree out;
    for (const auto& [path, node] : root.nodes())
        if (path.starts_with("/boot/") && node.kind == forge::Node::Kind::File) out.file(path, node.content, node.mode);
    return out;
}

/// Swaps the first two entries of an MBR: the demo's generator appends its own volume behind those that are there.
inline Bytes first_entries_swapped(Bytes image) {
    std::swap_ranges(image.begin() + 446, image.begin() + 462, image.begin() + 462);
    return image;
}

/// A machine together with its verdict: verdicts point into the machine.
/// What a finding shows on the screen is a screen that the table has for its code.
inline void expect_screen_of_table(const herberge::Finding& finding) {
    if (finding.symptom.empty()) return;
    const auto screens = herberge::screens_of(finding.code);
    EXPECT_TRUE(std::ranges::any_of(screens, [&](auto s) { return herberge::is_such_screen(finding.symptom, s); }))
        << herberge::code_id(finding.code) << ": not in the table: " << finding.symptom;
}

struct Checked {
    herberge::Machine machine;
    herberge::Verdict verdict;
    explicit Checked(Bytes image) : machine(machine_of(std::move(image))), verdict(herberge::check(machine)) {
        for (const auto& finding : verdict.findings) expect_screen_of_table(finding);
    }
    [[nodiscard]] const herberge::SystemVerdict& system() const { return verdict.systems.front(); }
    [[nodiscard]] std::string stage() const {
        return system().stops_at ? std::string(herberge::stage_id(*system().stops_at))
                                 : std::string(herberge::starts_id(system().starts));
    }
    [[nodiscard]] bool has(herberge::Code code) const {
        return std::any_of(verdict.findings.begin(), verdict.findings.end(),
                           [&](const auto& f) { return f.code == code; });
    }
};

inline herberge::Source source_of(Bytes bytes, std::string place = "d1p1:/file") {
    return herberge::memory_source(std::move(bytes), std::move(place), 1);
}

/// Names parametrised tests by their case.
inline constexpr auto by_name = [](const auto& which) { return std::string(which.param.name); };

/// A folder that goes away with the test.
class Folder {
public:
    Folder() {
        std::string pattern = (std::filesystem::temp_directory_path() / "herberge-test-XXXXXX").string();
        path_ = ::mkdtemp(pattern.data());
    }
    Folder(const Folder&) = delete;
    Folder& operator=(const Folder&) = delete;
    Folder(Folder&&) = delete;
    Folder& operator=(Folder&&) = delete;
    ~Folder() {
        std::error_code ignored;
        std::filesystem::remove_all(path_, ignored);
    }
    [[nodiscard]] std::string file(const std::string& name) const { return path_ + "/" + name; }
    std::string write(const std::string& name, const Bytes& bytes) const {
        std::ofstream out(file(name), std::ios::binary);
        out.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
        return file(name);
    }

private:
    std::string path_;
};

/// What a file of this machine holds; nothing where it cannot be read. In one piece: a byte at a time takes seconds.
inline Bytes file_bytes(const std::string& path) {
    std::ifstream in(path, std::ios::binary | std::ios::ate);
    if (!in) return {};
    Bytes out(static_cast<std::size_t>(in.tellg()));
    in.seekg(0);
    in.read(reinterpret_cast<char*>(out.data()), static_cast<std::streamsize>(out.size()));
    return out;
}

/// Replaces text in a file wherever it stands; that it stands there is expected.
inline void edit(forge::Tree& tree, const std::string& path, const std::string& from, const std::string& to) {
    auto& bytes = tree.at(path).content;
    std::string text(bytes.begin(), bytes.end());
    ASSERT_NE(text.find(from), std::string::npos) << path << " has no " << from;
    for (std::size_t at = 0; (at = text.find(from, at)) != std::string::npos; at += to.size())
        text.replace(at, from.size(), to);
    bytes = forge::to_bytes(text);
}

/// What a command printed, and how it ended.
struct Ran {
    int status = -1;
    std::string out;
};

inline Ran shell(const std::string& command) {
    Ran ran;
    FILE* pipe = ::popen((command + " 2>&1").c_str(), "r");
    if (pipe == nullptr) return ran;
    std::array<char, 4096> buffer{};
    for (std::size_t got = 0; (got = std::fread(buffer.data(), 1, buffer.size(), pipe)) > 0;)
        ran.out.append(buffer.data(), got);
    const int code = ::pclose(pipe);
    ran.status = WIFEXITED(code) ? WEXITSTATUS(code) : 128;
    // Whatever document of ours a command prints is as its schema says.
    if (ran.out.starts_with("{\n  \"schema\": \"herberge/") && ran.out.find("\n}\n") == ran.out.size() - 3)
        EXPECT_EQ(schema_problem(ran.out), "") << command;
    return ran;
}
}  // namespace support
