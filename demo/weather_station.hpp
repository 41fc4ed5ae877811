// SPDX-License-Identifier: MIT
// The weather station on the ridge: a board with an Allwinner H3, started from a card.
#pragma once

#include "demo_disks.hpp"
#include "forge/board.hpp"

namespace demo {

inline constexpr const char* station_board = "sunxi-h3-brom";
inline constexpr const char* station_root_uuid = "57a71000-0001-4a01-8a01-00000057a701";

/// What its card is made of; change it before it is put together.
struct WeatherStation {
    forge::Tree boot, root, ramdisk;
    std::vector<std::pair<std::string, std::string>> variables;  ///< built into its loader
    std::string script;
    std::vector<forge::FitPart> parts;  ///< of the image: kernel, RAM disk, tree; RAM disk: packed when it is built
    std::size_t first_size = 24000;     ///< bytes of the first program
    std::uint64_t first_lba = 4096;     ///< where the first partition begins
    [[nodiscard]] forge::Bytes build() const;
};
WeatherStation weather_station();

/// A card, and perhaps a dump of the flash beside it.
struct StationStory {
    std::string name, story, stops_at;
    std::function<forge::Bytes()> card;
    std::function<forge::Bytes()> flash;   ///< empty: none
    std::function<forge::Bytes()> second;  ///< raw flash that Linux uses, as a second image; empty: none
};
std::vector<StationStory> station_stories();

/// Where U-Boot's image begins on the card, in bytes.
inline constexpr std::size_t station_loader_at = 40960;
/// Where the first program begins.
inline constexpr std::size_t station_first_at = 8192;

}  // namespace demo
