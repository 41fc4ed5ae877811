// SPDX-License-Identifier: MIT
#include "system/lvm_opening.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "bytes/pattern.hpp"
#include "storage/disk_letters.hpp"
#include "storage/layers.hpp"
#include "storage/lvm_metadata.hpp"
#include "system/config_text.hpp"

namespace herberge {

namespace {

constexpr std::string_view main_file = "etc/lvm/lvm.conf", local_file = "etc/lvm/lvmlocal.conf",
                           devices_file = "etc/lvm/devices/system.devices";

/// LVM's settings in the RAM disk; those of this host alone come first.
class Settings {
public:
    explicit Settings(const Ramdisk& ramdisk)
        : local_(parsed(ramdisk, local_file)), main_(parsed(ramdisk, main_file)) {}

    /// A setting of a section, written in it or as "section/name", and the file that has it; null: none has.
    struct Found {
        const lvm::Item* item = nullptr;
        std::string_view file;
    };
    [[nodiscard]] Found find(const std::string& section, std::string_view name) const {
        for (const auto& [settings, file] : {std::pair(&local_, local_file), std::pair(&main_, main_file)}) {
            if (const auto* flat = settings->find(fmt::format("{}/{}", section, name))) return {flat, file};
            const auto* inside = settings->find(section);
            if (const auto* item = inside != nullptr ? inside->find(name) : nullptr) return {item, file};
        }
        return {};
    }
    [[nodiscard]] std::string text(const std::string& section, std::string_view name) const {
        const auto found = find(section, name);
        const auto* text = found.item != nullptr ? found.item->as_text() : nullptr;
        return text != nullptr ? *text : std::string{};
    }
    /// A list of texts, or one alone.
    static std::vector<std::string> words(const lvm::Item& item) {
        std::vector<std::string> out;
        if (const auto* text = item.as_text()) out.push_back(*text);
        for (const auto& one : item.items())
            if (const auto* text = one.as_text()) out.push_back(*text);
        return out;
    }

private:
    static lvm::Item parsed(const Ramdisk& ramdisk, std::string_view path) {
        const auto* file = ramdisk.find(path);
        if (file == nullptr) return {};
        return lvm::parse(file->content, fmt::format("RAM disk:/{}", path)).value_or(lvm::Item{});
    }
    lvm::Item local_, main_;
};

/// What Linux may call a physical volume on a PC or a board: one name for each way that its disk is attached.
std::vector<std::string> device_names(const Volume& member) {
    if (member.kind != NodeKind::Partition || member.disk < 1) return {};
    const std::string letter = disk_letters(member.disk);
    const std::string part = member.partition > 0 ? std::to_string(member.partition) : "";
    std::vector<std::string> out;
    for (const char* kind : {"sd", "vd", "xvd"}) out.push_back(fmt::format("/dev/{}{}{}", kind, letter, part));
    const std::string behind = part.empty() ? "" : "p" + part;
    out.push_back(fmt::format("/dev/nvme{}n1{}", member.disk - 1, behind));
    out.push_back(fmt::format("/dev/mmcblk{}{}", member.disk - 1, behind));
    return out;
}

/// How the patterns of a filter end for this name (lvm.conf(5), "devices/filter"): the first that fits decides, and
/// what none fits is taken.
enum class Filtered : std::uint8_t { Taken, LeftOut, Untold };

Filtered filtered(const std::vector<std::string>& patterns, std::string_view name) {
    bool another = false;  // a pattern takes names that are not this one: it may be another name of the same device
    for (const auto& one : patterns) {
        if (one.size() < 3 || (one[0] != 'a' && one[0] != 'r')) return Filtered::Untold;
        constexpr std::string_view brackets = "([{", closing = ")]}";
        const auto kind = brackets.find(one[1]);
        const char end = kind == std::string_view::npos ? one[1] : closing[kind];
        const auto last = one.rfind(end);
        if (last < 2) return Filtered::Untold;
        const auto pattern = Pattern::parse(std::string_view(one).substr(2, last - 2));
        const auto outcome = pattern ? pattern->match(name).outcome : Pattern::Outcome::Untold;
        if (outcome == Pattern::Outcome::Untold) return Filtered::Untold;
        if (outcome == Pattern::Outcome::Fits)
            return one[0] == 'a' ? Filtered::Taken : another ? Filtered::Untold : Filtered::LeftOut;
        another = another || one[0] == 'a';
    }
    return Filtered::Taken;
}

class Opening {
public:
    Opening(const Volume& volume, const Ramdisk& ramdisk, const CommandLine& arguments)
        : volume_(volume),
          ramdisk_(ramdisk),
          arguments_(arguments),
          settings_(ramdisk),
          // "mapper/inn-root", "inn/root"
          name_(volume.names.linux_names.size() > 1 ? volume.names.linux_names[1] : std::string{}),
          group_(name_.substr(0, name_.find('/'))) {}

    Claim run() {
        out_.stage = Stage::Root;
        out_.state = State::Holds;
        if (ramdisk_.builder == "dracut") told_to_open_others();
        else nobody_calls();
        if (!ended()) marks();
        if (!ended()) of_another_host();
        if (!ended()) disks_left_out();
        if (!ended()) volumes_left_out();
        return std::move(out_);
    }

private:
    [[nodiscard]] bool ended() const { return out_.state == State::Breaks; }

    void closed(const std::string& why, Evidence evidence, std::string screen = {}) {
        out_.break_with(make_finding(Code::RootNotOpened,
                                     fmt::format("the RAM disk does not open {}: {}", volume_.place, why),
                                     {std::move(evidence)}, std::move(screen)));
    }
    void untold(const std::string& why, Evidence evidence) {
        if (out_.state == State::Unknown) return;
        out_.state = State::Unknown;
        out_.text = fmt::format("whether the RAM disk opens {} is not told: {}", volume_.place, why);
        out_.evidence = {std::move(evidence)};
    }
    [[nodiscard]] static Evidence at(std::string_view file, std::string found) {
        return evidence_place(fmt::format("RAM disk:/{}", file), {}, std::move(found));
    }
    /// A setting as its file has it.
    [[nodiscard]] static Evidence at(std::string_view file, const char* name, const std::vector<std::string>& words) {
        return at(file, fmt::format("{} = {}", name, printable(fmt::format("{}", fmt::join(words, " ")))));
    }
    [[nodiscard]] Evidence here(const std::string& found) const { return evidence_place(volume_.place, {}, found); }

    /// dracut opens what rd.lvm.lv= and rd.lvm.vg= name, and everything when neither is given.
    void told_to_open_others() {
        if (arguments_.value("rd.lvm").value_or("1") == "0" || arguments_.has("rd_NO_LVM"))
            return closed_by_word("rd.lvm=0 keeps the RAM disk from opening groups of volumes");
        std::vector<std::string> named;
        bool group = false;
        for (const auto& word : arguments_.words())
            for (const std::string_view option : {"rd.lvm.lv=", "rd_LVM_LV=", "rd.lvm.vg=", "rd_LVM_VG="}) {
                if (!word.starts_with(option)) continue;
                named.push_back(word.substr(option.size()));
                by_name_ = by_name_ || named.back() == name_;
                group = group || name_.starts_with(named.back() + "/");
            }
        if (!named.empty() && !by_name_ && !group && !name_.empty())
            closed_by_word(fmt::format("the command line has the RAM disk open {} only", fmt::join(named, ", ")));
    }
    void closed_by_word(const std::string& why) {
        out_.break_with(make_finding(Code::RootNotOpened, fmt::format("{}, not {}", why, volume_.place),
                                     {evidence_place(volume_.place)}));
    }

    /// A rule of udev's calls LVM for each physical volume that appears; older releases had a script for it.
    void nobody_calls() {
        if (ramdisk_.builder != "initramfs-tools") return;
        bool rules = false;
        for (const auto& [path, file] : ramdisk_.files) {
            const bool rule = path.find("udev/rules.d/") != std::string::npos;
            const auto name = std::string_view(path).substr(path.rfind('/') + 1);
            // 56-lvm.rules only names what is open already.
            if (rule && name.find("lvm") != std::string_view::npos && name != "56-lvm.rules") return;
            if (path.starts_with("scripts/") && path.find("lvm") != std::string::npos) return;
            rules = rules || rule;
        }
        if (!rules) return;
        closed("no rule of udev's and no script there calls lvm",
               evidence_place("RAM disk:/usr/lib/udev/rules.d/69-lvm.rules", "the rule that does", "not there"));
    }

    /// Opening by itself: all but dracut, which names what it wants.
    [[nodiscard]] bool by_itself() const {
        return ramdisk_.builder == "initramfs-tools" || ramdisk_.builder == "mkinitcpio";
    }

    void marks() {
        const auto& held = volume_.names.held_back;
        if (!held.empty()) {
            const bool exported = held.ends_with("exported");
            if (held.starts_with(linux_refuses)) return closed(held, here(held));
            if (!exported && by_name_)
                return untold(held + ", and the command line asks for it by its name", here(held));
            return closed(
                held, here(held),
                // Who starts all groups passes over it in silence.
                exported && !ramdisk_.builder.empty() ? fmt::format("Volume group \"{}\" is exported", group_) : "");
        }
        if (volume_.names.waits_to_be_asked.empty()) return;
        if (by_itself()) closed(volume_.names.waits_to_be_asked, here(volume_.names.waits_to_be_asked));
        else if (ramdisk_.builder.empty())
            untold(volume_.names.waits_to_be_asked, here(volume_.names.waits_to_be_asked));
    }

    void of_another_host() {
        const std::string& wanted = volume_.names.system_id;
        if (wanted.empty()) return;
        const auto source = settings_.text("global", "system_id_source");
        std::string own;
        if (source == "lvmlocal") own = settings_.text("local", "system_id");
        else if (source == "machineid") {
            const auto* file = ramdisk_.find("etc/machine-id");
            own = file != nullptr ? file->content.substr(0, file->content.find('\n')) : std::string{};
        } else if (!source.empty() && source != "none") {
            return;  // the host's name, or a file whose content is not kept
        }
        if (own == wanted) return;
        if (const auto more = settings_.find("local", "extra_system_ids"); more.item != nullptr)
            for (const auto& word : Settings::words(*more.item))
                if (word == wanted) return;
        const auto why = fmt::format(
            "its group belongs to the host \"{}\", and LVM in the RAM disk {}", printable(wanted),
            own.empty() ? "knows no name of this one" : fmt::format("calls this one \"{}\"", printable(own)));
        closed(why, here(why),
               fmt::format("Cannot access VG {} with system ID {} with {}local system ID{}{}.", group_, wanted,
                           own.empty() ? "unknown " : "", own.empty() ? "" : " ", own));
    }

    /// The patterns of both filters, and the list of devices (lvmdevices(8)).
    void disks_left_out() {
        for (const auto& member : volume_.made_of) {
            for (const char* name : {"global_filter", "filter"}) {
                const auto filter = settings_.find("devices", name);
                if (filter.item != nullptr) by_filter(*member, name, filter);
                if (ended()) return;
            }
            listed(member);
            if (ended()) return;
        }
    }
    void by_filter(const Volume& member, const char* name, const Settings::Found& filter) {
        const auto patterns = Settings::words(*filter.item);
        const auto told = at(filter.file, name, patterns);
        std::vector<Filtered> all;
        for (const auto& device : device_names(member)) all.push_back(filtered(patterns, device));
        if (all.empty() || std::ranges::count(all, Filtered::Taken) == std::ssize(all)) return;
        if (std::ranges::count(all, Filtered::LeftOut) == std::ssize(all))
            return closed(fmt::format("its settings leave out {}, whatever it is called ({})", member.place, name),
                          told);
        untold(fmt::format("its settings take {} by some names only ({})", member.place, name), told);
    }
    void listed(const VolumeRef& member) {
        const auto* file = ramdisk_.find(devices_file);
        const auto use = settings_.find("devices", "use_devicesfile");
        const auto* number = use.item != nullptr ? use.item->as_number() : nullptr;
        if (file == nullptr || (number != nullptr && *number == 0)) return;
        const auto id = lvm::read_physical(member).id;
        bool any = false, there = false;
        each_line(file->content, [&](int, std::string_view line) {
            for (const auto& word : blank_words(line.substr(0, line.find('#')))) {
                if (!word.starts_with("PVID=")) continue;
                any = true;
                there = there || lvm::plain_id(word.substr(5)) == id;
            }
        });
        if (!any || there || id.empty()) return;
        const auto why = fmt::format("the list of devices there has others, and not {}", member->place);
        if (number != nullptr) closed(why, at(devices_file, fmt::format("no PVID={}", id)));
        else
            untold(why + "; whether it counts was decided when LVM was built",
                   at(devices_file, fmt::format("no PVID={}", id)));
    }

    void volumes_left_out() {
        for (const char* name : {"volume_list", "auto_activation_volume_list"}) {
            if (name[0] == 'a' && !by_itself()) continue;
            const auto list = settings_.find("activation", name);
            if (list.item == nullptr) continue;
            const auto words = Settings::words(*list.item);
            // "@tag" stands for what carries that tag.
            if (std::ranges::any_of(words, [&](const std::string& word) {
                    return word == group_ || word == name_ || word.starts_with('@');
                }))
                continue;
            return closed(fmt::format("its settings name what may be opened ({}), and not this", name),
                          at(list.file, name, words));
        }
    }

    const Volume& volume_;
    const Ramdisk& ramdisk_;
    const CommandLine& arguments_;
    Settings settings_;
    std::string name_, group_;
    bool by_name_ = false;  ///< the command line names this very volume to dracut
    Claim out_;
};

}  // namespace

Claim judge_group_opening(const Volume& volume, const Ramdisk& ramdisk, const CommandLine& arguments) {
    return Opening(volume, ramdisk, arguments).run();
}

}  // namespace herberge
