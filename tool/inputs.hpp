// SPDX-License-Identifier: MIT
// What commands are given: images, lists of lost sectors, keys, places.
#pragma once

#include <chrono>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/herberge.hpp>

#include "commands.hpp"

namespace tool {

/// Says what is wrong on standard error; gives `status` back.
int complain(int status, const std::string& text);

/// Takes a number off the beginning of `text`; false: there is none.
bool take_number(std::string_view& text, int& out);
bool take_number(std::string_view& text, std::uint64_t& out);
bool take_number(std::string_view& text, double& out);

/// A whole input file as text. Only regular files of a bounded size: others may have no end, or block for ever.
std::optional<std::string> input_text(const std::string& path);

/// The machine of the images given.
struct Inputs {
    herberge::Machine machine;
    std::vector<std::shared_ptr<const herberge::ImageFile>> files;
    std::vector<std::shared_ptr<const herberge::DamagedSource>> damaged;

    int status = Exit::unreadable;  ///< of the program, where it cannot be had

    /// False: it cannot be had, and that has been said.
    bool open(const Options& options);
    /// How much was read, and how long it took, on standard error.
    void stats() const;

private:
    bool read_unreadable(const std::string& path);
    bool read_keys(const std::vector<std::string>& unlock);
    bool divide(herberge::Disk& disk, const std::vector<std::string>& layouts);
    /// The content of a dump of NAND flash in place of the dump; `out` stays null for other images.
    bool take_spare_off(const herberge::Source& dump, int number, const std::vector<std::string>& shapes,
                        std::optional<herberge::NandDump>& out);
    /// Gives the disk the dumps of its boot areas.
    bool beside(herberge::Disk& disk, const std::vector<std::string>& areas);
    /// Whether each of these begins with dN= of an image that is there.
    bool names_images(const std::vector<std::string>& all, std::string_view option, std::string_view wanted,
                      std::size_t images);

    std::map<int, std::vector<std::pair<std::uint64_t, std::uint64_t>>> unreadable_;  ///< per disk: bytes
    std::vector<herberge::VolumeKey> keys_;
    std::chrono::steady_clock::time_point begun_ = std::chrono::steady_clock::now();
};

/// A place: "d1", "d1p1", "d1p1:/path", "d1@0+512", "lvm/inn/root:/path".
struct Place {
    int disk = 0;
    int partition = 0;
    std::string layered;  ///< "lvm/inn/root"; empty: a disk or partition
    std::optional<std::string> path;
    std::optional<std::uint64_t> offset;
    std::uint64_t length = 512;
    [[nodiscard]] std::string volume() const;
};
std::optional<Place> parse_place(std::string_view text);

/// What the walk is to assume; nonzero: already complained.
int walk_options(const Options& options, herberge::CheckOptions& wanted);

}  // namespace tool
