// SPDX-License-Identifier: MIT
// Writes the disks of an inn's machines and walks them.
#include <fmt/format.h>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <functional>
#include <set>

#include <herberge/herberge.hpp>

#include "cellar.hpp"
#include "commands.hpp"
#include "demo_disks.hpp"
#include "help_disc.hpp"
#include "inputs.hpp"
#include "kiosk.hpp"
#include "ledger.hpp"
#include "office_pc.hpp"
#include "reception.hpp"
#include "views.hpp"
#include "weather_station.hpp"

namespace tool {

using namespace herberge;

namespace {

/// One line, or a few, about a verdict.
std::string said_of(const SystemVerdict& system, const Terminal& terminal) {
    std::string out;
    std::string said = system.starts == Starts::Yes ? terminal.ink(Ink::Good, "starts")
                       : system.stops_at
                           ? terminal.ink(Ink::Bad, fmt::format("stops at {}", stage_id(*system.stops_at))) + ": " +
                                 printable(system.at(*system.stops_at).text)
                           : terminal.ink(Ink::Warn, untold_sentence(system));
    for (const auto& part : wrap(said, terminal.width() - 6)) out += "      " + part + "\n";
    return out;
}

/// The names of the files that an earlier run wrote into a demo folder: these alone may be written again.
class DemoFolder {
public:
    explicit DemoFolder(const std::string& folder)
        : list_((std::filesystem::path(folder) / "demo-disks.txt").string()) {
        std::ifstream file(list_);
        std::string line;
        while (names_.size() < 1000 && std::getline(file, line)) names_.insert(line);
    }
    /// False: a file of that name is there, and is none of ours (already complained).
    bool claim(const std::string& path) {
        const auto name = std::filesystem::path(path).filename().string();
        std::error_code ignored;
        if (!names_.contains(name) && std::filesystem::exists(std::filesystem::symlink_status(path, ignored))) {
            complain(Exit::unreadable,
                     fmt::format("{} is there already and was not written by this command; nothing is replaced", path));
            return false;
        }
        if (names_.insert(name).second) std::ofstream(list_, std::ios::app) << name << '\n';
        return true;
    }

private:
    std::string list_;
    std::set<std::string> names_;
};

/// Each part is nonzero where it has complained already.
class Demo {
public:
    explicit Demo(const Options& options) : options_(options), folder_(options.folder) {}

    /// Machines of one disk each.
    int stories(const std::string& head, const std::vector<demo::Story>& all) {
        print(head + "\n\n");
        for (const auto& disk : all) {
            const std::string path = path_of(disk.name);
            if (!folder_.claim(path)) return Exit::unreadable;
            if (const auto written = demo::write_disk(disk, path); !written)
                return complain(Exit::unreadable, written.error().text());
            Options one = options_;
            one.images = {path};
            if (!disk.key.empty() && !tell(disk.key, path, "d1p2", one)) return Exit::unreadable;
            if (const int problem = said(path, disk.story, one); problem != 0) return problem;
        }
        return 0;
    }

    int kiosk() {
        print("\nThe check-in kiosk, which starts by UEFI: a disk and the firmware's variables.\n\n");
        for (const auto& story : demo::kiosk_stories()) {
            const auto disk = story.disk();
            Options one = options_;
            one.images = {path_of(story.name + ".img")};
            one.variables = path_of(story.name + ".fd");
            one.firmware = "uefi";
            if (!write(one.images.front(), disk) || !write(one.variables, story.variables(disk)))
                return Exit::unreadable;
            if (const int problem = said(one.images.front(), story.story, one); problem != 0) return problem;
        }
        return 0;
    }

    int ledger() {
        print(
            fmt::format("\nThe ledger server: two mirrored disks, a group of logical volumes, an encrypted volume with "
                        "XFS\n(--unlock {}=FILE).\n\n",
                        demo::ledger_vault));
        for (const auto& story : demo::ledger_stories()) {
            auto machine = demo::ledger();
            story.change(machine);
            const auto disks = machine.build();
            Options some = options_;
            some.images.clear();
            for (std::size_t i = 0; i < story.files.size(); ++i) {
                some.images.push_back(path_of(story.files[i]));
                if (!write(some.images.back(), disks.at(i))) return Exit::unreadable;
            }
            const std::string vault = "lvm/" + machine.group + "/books";
            if (story.told && !tell(demo::ledger_passphrase, path_of(story.name), vault, some)) return Exit::unreadable;
            if (const int problem = said(story.name, story.story, some); problem != 0) return problem;
        }
        return 0;
    }

    int weather_station() {
        print(fmt::format("\nThe weather station on the ridge, a board with a card (--firmware board:{}).\n\n",
                          demo::station_board));
        for (const auto& story : demo::station_stories()) {
            Options one = options_;
            one.images = {path_of(story.name)};
            one.firmware = fmt::format("board:{}", demo::station_board);
            if (!write(one.images.front(), story.card())) return Exit::unreadable;
            if (story.second) {
                one.images.push_back(std::filesystem::path(one.images.front()).replace_extension(".nor").string());
                if (!write(one.images.back(), story.second())) return Exit::unreadable;
            }
            if (story.flash) {
                one.variables = std::filesystem::path(one.images.front()).replace_extension(".flash").string();
                if (!write(one.variables, story.flash())) return Exit::unreadable;
            }
            if (const int problem = said(one.images.front(), story.story, one); problem != 0) return problem;
        }
        return 0;
    }

    int back_office() {
        print("\nThe back office of the inn Almhof: one machine with two disks.\n\n");
        for (const auto& machine : demo::back_office_machines()) {
            Options several = options_;
            several.images.clear();
            for (const auto& [name, make] : machine.disks) {
                several.images.push_back(path_of(name));
                if (!write(several.images.back(), make())) return Exit::unreadable;
            }
            Inputs opened;
            if (!opened.open(several)) return opened.status;
            headline(machine.name, machine.story);
            for (const auto& system : check(opened.machine).systems)
                print(fmt::format(
                    "      {}  {}\n",
                    pad(fmt::format("{} {}", pad(system.place.value_or("—"), 5), printable(system.name)), 50),
                    system.starts == Starts::Yes ? terminal_.ink(Ink::Good, "starts")
                    : system.stops_at ? terminal_.ink(Ink::Bad, fmt::format("stops at {}", stage_id(*system.stops_at)))
                                      : terminal_.ink(Ink::Warn, untold_sentence(system))));
        }
        return 0;
    }

private:
    [[nodiscard]] std::string path_of(const std::string& name) const {
        return (std::filesystem::path(options_.folder) / name).string();
    }

    bool write(const std::string& path, const forge::Bytes& bytes) {
        if (!folder_.claim(path)) return false;
        if (forge::write_sparse(path, bytes)) return true;
        complain(Exit::unreadable, fmt::format("{}: cannot be written", path));
        return false;
    }

    /// Writes a passphrase beside a disk, and has it used for the volume at `place`.
    bool tell(const std::string& key, const std::string& disk, const std::string& place, Options& options) {
        const std::string path = std::filesystem::path(disk).replace_extension(".key").string();
        if (!folder_.claim(path)) return false;
        if (!(std::ofstream(path) << key << '\n')) {
            complain(Exit::unreadable, fmt::format("{}: cannot be written", path));
            return false;
        }
        options.unlock = {place + "=" + path};
        return true;
    }

    void headline(const std::string& name, const std::string& story) const {
        print(fmt::format("{}  {}\n", terminal_.ink(Ink::Bold, pad(name, 34)), story));
    }

    int said(const std::string& name, const std::string& story, const Options& options) const {
        Inputs opened;
        CheckOptions wanted;
        if (!opened.open(options)) return opened.status;
        if (walk_options(options, wanted) != 0) return Exit::unreadable;
        const Verdict verdict = check(opened.machine, wanted);
        headline(name, story);
        print(said_of(verdict.systems.front(), terminal_));
        return 0;
    }

    const Options& options_;
    DemoFolder folder_;
    Terminal terminal_;
};

}  // namespace

int run_demo(const Options& options) {
    std::error_code error;
    std::filesystem::create_directories(options.folder, error);
    if (error) return complain(Exit::unreadable, fmt::format("{}: {}", options.folder, error.message()));
    Demo inn(options);
    for (const auto& part : std::initializer_list<std::function<int()>>{
             [&] {
                 return inn.stories("The front desk of the inn Almhof: one machine, in several states.",
                                    demo::front_desk_disks());
             },
             [&] { return inn.stories("\nThe reception, which starts by systemd.", demo::reception_disks()); },
             [&] { return inn.stories("\nThe kitchen, with run levels and scripts.", demo::kitchen_disks()); },
             [&] {
                 return inn.stories("\nThe wine cellar's machine, in a group of logical volumes.",
                                    demo::cellar_disks());
             },
             [&] {
                 return inn.stories("\nThe same machine with its group in an encrypted volume (--unlock d1p2=FILE).",
                                    demo::vault_disks());
             },
             [&] { return inn.ledger(); },
             [&] { return inn.stories("\nThe owner's office PC, with Windows.", demo::office_pc_disks()); },
             [&] {
                 return inn.stories("\nThe technician's disc, which starts from a drive or a stick.",
                                    demo::help_discs());
             },
             [&] { return inn.kiosk(); }, [&] { return inn.weather_station(); }, [&] { return inn.back_office(); }})
        if (const int problem = part(); problem != 0) return problem;
    print(fmt::format(
        "\nLook at one: herberge check {0}/no-init.img\n         or: herberge systems {0}/office.img {0}/archive.img\n",
        options.folder));
    return Exit::all_start;
}

}  // namespace tool
