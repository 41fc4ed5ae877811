// SPDX-License-Identifier: MIT
#include "system/barred_modules.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <set>
#include <vector>

#include "system/config_text.hpp"
#include "system/drivers.hpp"
#include "system/modprobe_rules.hpp"

namespace herberge {

namespace {

class Collector {
public:
    explicit Collector(const Ramdisk* ramdisk) : ramdisk_(ramdisk) {}

    std::map<std::string, std::string> run(const CommandLine& arguments) {
        if (ramdisk_ != nullptr) files();
        for (const auto& word : arguments.words())
            for (const auto& [lead, for_good] : {std::pair<std::string_view, bool>{"module_blacklist=", true},
                                                 {"modprobe.blacklist=", false},
                                                 {"rd.driver.blacklist=", false}})
                if (word.starts_with(lead))
                    for (std::string_view rest = std::string_view(word).substr(lead.size()); !rest.empty();) {
                        const auto name = rest.substr(0, rest.find(','));
                        rest.remove_prefix(std::min(name.size() + 1, rest.size()));
                        bar(name, fmt::format("{} on the command line", word), for_good);
                    }
        for (const auto& name : asked_for_)
            if (const auto at = for_devices_.find(name); at != for_devices_.end()) for_devices_.erase(at);
        out_.merge(for_devices_);
        return std::move(out_);
    }

private:
    void bar(std::string_view name, const std::string& who, bool for_good) {
        if (name.empty()) return;
        // Drivers of file systems and layers are loaded by name, too.
        if (for_good) out_.emplace(drivers::module_name(name), who);
        else if (drivers::is_disk_driver(drivers::module_name(name)))
            for_devices_.emplace(drivers::module_name(name), who);
    }

    void files() {
        for (const auto& rule : modprobe_rules(*ramdisk_))
            bar(rule.module, fmt::format("{} in the RAM disk, line {}", rule.path, rule.line), rule.replaced);
        // What initramfs-tools and systemd load by name.
        for (const auto& [path, file] : ramdisk_->files)
            if (path.ends_with("conf/modules") ||
                (path.find("/modules-load.d/") != std::string::npos && path.ends_with(".conf")))
                each_line(file.content, [&](int, std::string_view line) {
                    const auto words = blank_words(line);
                    if (!words.empty() && !words[0].starts_with('#')) asked_for_.insert(drivers::module_name(words[0]));
                });
    }

    const Ramdisk* ramdisk_;
    std::map<std::string, std::string> out_, for_devices_;
    std::set<std::string> asked_for_;
};

}  // namespace

std::map<std::string, std::string> barred_modules(const Ramdisk* ramdisk, const CommandLine& arguments) {
    return Collector(ramdisk).run(arguments);
}

}  // namespace herberge
