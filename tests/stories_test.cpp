// SPDX-License-Identifier: MIT
// Every machine of the demo: its whole verdict, what would mend it, and how it differs from the sound one, as kept in
// tests/stories/. HERBERGE_WRITE_VIEWS=1 writes those files anew: read what changed.
#include "cellar.hpp"
#include "demo_disks.hpp"
#include "help_disc.hpp"
#include "kiosk.hpp"
#include "ledger.hpp"
#include "office_pc.hpp"
#include "reception.hpp"
#include "support.hpp"
#include "told.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

struct Told {
    std::string name;
    std::function<Machine()> machine;
    std::function<CheckOptions()> options;
    std::function<Machine()> sound;  ///< the machine as it was before; empty: there is none
};

CheckOptions bios() { return {}; }

std::string name_of(std::string file) {
    file = file.substr(0, file.find('.'));
    for (auto& c : file)
        if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
    return file;
}

void add(std::vector<Told>& out, const std::string& group, const std::vector<demo::Story>& all) {
    for (const auto& story : all)
        if (story.key.empty())
            out.push_back({group + "_" + name_of(story.name),
                           [make = story.make] { return support::machine_of(make()); }, bios,
                           [make = all.front().make] { return support::machine_of(make()); }});
}

CheckOptions of_kiosk(const demo::KioskStory& story) {
    CheckOptions out;
    out.firmware = FirmwareKind::Uefi;
    if (!story.variables) return out;
    out.variables = *parse_uefi_flash(story.variables(story.disk()));
    out.variables.source = "kiosk.fd";
    return out;
}

std::vector<Told> all_told() {
    std::vector<Told> out;
    add(out, "Desk", demo::front_desk_disks());
    add(out, "Reception", demo::reception_disks());
    add(out, "Kitchen", demo::kitchen_disks());
    add(out, "Cellar", demo::cellar_disks());
    add(out, "Office", demo::office_pc_disks());
    add(out, "Disc", demo::help_discs());
    for (const auto& story : demo::kiosk_stories())
        out.push_back({"Kiosk_" + name_of(story.name), [story] { return support::machine_of(story.disk()); },
                       [story] { return of_kiosk(story); },
                       [] { return support::machine_of(demo::kiosk_stories().front().disk()); }});
    for (const auto& story : demo::station_stories())
        if (!story.flash && !story.second)
            out.push_back({"Station_" + name_of(story.name), [story] { return support::machine_of(story.card()); },
                           [] {
                               CheckOptions one;
                               one.firmware = FirmwareKind::Board;
                               one.board = demo::station_board;
                               return one;
                           },
                           [] { return support::machine_of(demo::station_stories().front().card()); }});
    for (const auto& story : demo::ledger_stories())
        if (!story.told)
            out.push_back({"Ledger_" + name_of(story.name),
                           [story] {
                               auto ledger = demo::ledger();
                               story.change(ledger);
                               const auto disks = ledger.build();
                               return support::machine_of_disks({disks.begin(), disks.end()});
                           },
                           bios,
                           {}});
    return out;
}

class WholeStories : public testing::TestWithParam<Told> {};
TEST_P(WholeStories, AreToldAsBefore) {
    const auto& one = GetParam();
    const auto machine = one.machine();
    const auto sound = one.sound ? std::optional(one.sound()) : std::nullopt;
    support::expect_as_kept(support::told(machine, one.options(), sound ? &*sound : nullptr));
}
INSTANTIATE_TEST_SUITE_P(Demo, WholeStories, testing::ValuesIn(all_told()), support::by_name);

}  // namespace
