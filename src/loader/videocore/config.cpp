// SPDX-License-Identifier: MIT
#include "loader/videocore/config.hpp"

#include <algorithm>
#include <charconv>

namespace herberge::loader::videocore {

namespace {

constexpr std::size_t longest_line = 98;
constexpr int most_depth = 8;
constexpr int most_lines = 20'000;

const std::vector<Model>& models() {
    static const std::vector<Model> out = {
        {"rpi-1",
         {"pi1", "pi0", "pi0w", "cm1"},
         {},
         {"kernel.img"},
         false,
         {"bcm2708-rpi-b.dtb", "bcm2708-rpi-b-plus.dtb", "bcm2708-rpi-zero.dtb", "bcm2708-rpi-zero-w.dtb",
          "bcm2835-rpi-b.dtb", "bcm2835-rpi-zero-w.dtb"},
         {"bootcode.bin", "start.elf"}},
        {"rpi-2",
         {"pi2"},
         {},
         {"kernel7.img"},
         false,
         {"bcm2709-rpi-2-b.dtb", "bcm2710-rpi-2-b.dtb", "bcm2836-rpi-2-b.dtb"},
         {"bootcode.bin", "start.elf"}},
        {"rpi-3",
         {"pi3", "pi3+", "pi02", "cm3"},
         {"kernel8.img"},
         {"kernel7.img"},
         false,
         {"bcm2710-rpi-3-b.dtb", "bcm2710-rpi-3-b-plus.dtb", "bcm2710-rpi-zero-2-w.dtb", "bcm2710-rpi-cm3.dtb",
          "bcm2837-rpi-3-b.dtb", "bcm2837-rpi-3-b-plus.dtb"},
         {"bootcode.bin", "start.elf"}},
        {"rpi-4",
         {"pi4", "pi400", "cm4"},
         {"kernel8.img"},
         {"kernel7l.img"},
         true,
         {"bcm2711-rpi-4-b.dtb", "bcm2711-rpi-400.dtb", "bcm2711-rpi-cm4.dtb"},
         {"start4.elf"}},
        {"rpi-5",
         {"pi5", "pi500", "cm5"},
         {"kernel_2712.img", "kernel8.img"},
         {},
         true,
         {"bcm2712-rpi-5-b.dtb", "bcm2712-rpi-500.dtb", "bcm2712-rpi-cm5.dtb", "bcm2712d0-rpi-5-b.dtb"},
         {}},
    };
    return out;
}

std::string_view trimmed(std::string_view text) {
    const auto first = text.find_first_not_of(" \t\r");
    if (first == std::string_view::npos) return {};
    return text.substr(first, text.find_last_not_of(" \t\r") - first + 1);
}

/// The sections in force: of each kind the last one.
class Filters {
public:
    explicit Filters(const Model& model) : model_(model) {}
    void section(std::string_view name) {
        if (name == "all") model_counts_ = others_count_ = true;
        else if (name == "none") model_counts_ = false;
        else if (name.starts_with("pi") || name.starts_with("cm"))
            model_counts_ = std::ranges::find(model_.filters, name) != model_.filters.end();
        // A serial number, a pin, a display, tryboot: nothing here tells that they hold.
        else others_count_ = std::ranges::find(model_.filters, name) != model_.filters.end();
    }
    [[nodiscard]] bool count() const { return model_counts_ && others_count_; }

private:
    const Model& model_;
    bool model_counts_ = true, others_count_ = true;
};

}  // namespace

const Model* find_model(std::string_view board) {
    const auto& all = models();
    const auto found = std::ranges::find(all, board, &Model::board);
    return found != all.end() ? &*found : nullptr;
}

std::string Config::value(std::string_view name, std::string_view otherwise) const {
    const auto found = settings.find(name);
    return found != settings.end() ? found->second.value : std::string(otherwise);
}

int Config::line(std::string_view name) const {
    const auto found = settings.find(name);
    return found != settings.end() ? found->second.line : 0;
}

void read_config(std::string_view text, const std::string& place, const Model& model, Config& out, Include include,
                 const void* context, int depth) {
    Filters filters(model);
    int number = 0;
    while (!text.empty() && number < most_lines) {
        const auto end = std::min(text.find('\n'), text.size());
        std::string_view line = trimmed(text.substr(0, std::min(end, longest_line)));
        text.remove_prefix(std::min(end + 1, text.size()));
        ++number;
        if (line.empty() || line.front() == '#') continue;
        if (line.front() == '[') {
            filters.section(line.substr(1, std::min(line.find(']'), line.size()) - 1));
            continue;
        }
        if (!filters.count()) continue;
        const auto blank = line.find_first_of(" \t");
        const std::string_view word = line.substr(0, blank);
        if (word == "include" && blank != std::string_view::npos) {
            const auto name = trimmed(line.substr(blank));
            const auto more = depth < most_depth && include != nullptr ? include(context, name) : std::nullopt;
            if (more) read_config(*more, std::string(name), model, out, include, context, depth + 1);
            continue;
        }
        if ((word == "initramfs" || word == "ramfsfile") && blank != std::string_view::npos &&
            line.find('=') == std::string_view::npos) {
            out.ramdisk = Setting{std::string(trimmed(line.substr(blank))), place, number};
            continue;
        }
        const auto equals = line.find('=');
        if (equals == std::string_view::npos) continue;
        const auto name = trimmed(line.substr(0, equals));
        Setting setting{std::string(trimmed(line.substr(equals + 1))), place, number};
        if (name == "dtoverlay" || name == "device_tree_overlay") {
            setting.value = setting.value.substr(0, setting.value.find_first_of(",:"));
            if (!setting.value.empty()) out.overlays.push_back(std::move(setting));
            continue;
        }
        out.settings[std::string(name)] = std::move(setting);
    }
}

std::optional<int> autoboot_partition(std::string_view text, bool trial) {
    Model asked;
    if (trial) asked.filters = {"tryboot"};
    Config config;
    read_config(text.substr(0, std::min<std::size_t>(text.size(), 512)), "autoboot.txt", asked, config, nullptr,
                nullptr);
    const auto value = config.value("boot_partition");
    int out = 0;
    const auto [end, problem] = std::from_chars(value.data(), value.data() + value.size(), out);
    return problem == std::errc{} && out > 0 ? std::optional(out) : std::nullopt;
}

}  // namespace herberge::loader::videocore
