// SPDX-License-Identifier: MIT
// Every read fails once, and every sector that a walk reads is lost for good: nothing ends the process, what could not
// be read is named, nothing is called absent or damaged for it, and no system is said to start whose kernel, RAM disk,
// configuration or loader lies there. HERBERGE_EVERY_READ=1 takes all reads and sectors; without it a part of them.
#include <algorithm>
#include <set>

#include <nlohmann/json.hpp>

#include "cellar.hpp"
#include "help_disc.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "reception.hpp"
#include "support.hpp"
#include "weather_station.hpp"

using namespace herberge;
using support::Bytes;

namespace {

constexpr std::uint64_t sector = 512;

/// Passes reads on, counts them, and writes down which sectors they touch; one of them may fail.
class Watched : public ByteSource {
public:
    explicit Watched(Source base, std::size_t fails = ~std::size_t{0}) : base_(std::move(base)), fails_(fails) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return base_->size(); }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        return base_->locate(offset, length);
    }
    [[nodiscard]] std::string place() const override { return base_->place(); }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (into.empty()) return base_->read(offset, into);
        for (std::uint64_t at = offset / sector; at <= (offset + into.size() - 1) / sector; ++at) touched_.insert(at);
        if (reads_++ == fails_) {
            auto error = fail(ErrorKind::Unreadable, "the medium does not give these bytes", place());
            error.value().byte = offset;
            return tl::unexpected(error.value());
        }
        return base_->read(offset, into);
    }
    [[nodiscard]] const std::set<std::uint64_t>& touched() const { return touched_; }
    [[nodiscard]] std::size_t reads() const { return reads_; }

private:
    Source base_;
    std::size_t fails_;
    mutable std::size_t reads_ = 0;
    mutable std::set<std::uint64_t> touched_;
};

struct Walked {
    Machine machine;
    Verdict verdict;
    explicit Walked(const Source& disk, const std::string& board = {}) {
        machine.disks.push_back(inspect_disk(disk, 1, "x"));
        assemble_layers(machine);
        CheckOptions options;
        options.board = board;
        if (!board.empty()) options.firmware = FirmwareKind::Board;
        verdict = check(machine, options);
    }
    /// All that is said, but for the same of the sound disk.
    [[nodiscard]] std::string said() const {
        std::string out;
        for (const auto& system : verdict.systems) {
            out += system.symptom + "\n";
            for (const auto& rung : system.stages) {
                out += rung.text + "\n";
                for (const auto& evidence : rung.evidence) out += evidence.found + "\n";
            }
        }
        for (const auto& finding : verdict.findings) {
            out += finding.text + "\n" + finding.symptom + "\n";
            for (const auto& evidence : finding.evidence) out += evidence.found + "\n";
        }
        return out;
    }
    [[nodiscard]] std::string starts() const {
        std::string out;
        for (const auto& system : verdict.systems)
            out += std::string(starts_id(system.starts)) +
                   (system.stops_at ? ":" + std::string(stage_id(*system.stops_at)) : "") + " ";
        return out;
    }
};

/// Somebody is told that bytes could not be had, in one of the ways in which that is said.
bool names_the_loss(const std::string& text) {
    for (const char* words :
         {"cannot be read", "could not be read", "cannot be looked at", "unreadable", "reading sector", "Read Error",
          "read error", "Disk error", "does not give", "cannot be told", "Input/output"})
        if (text.find(words) != std::string::npos) return true;
    return false;
}

/// Which of the disks, and what GoogleTest calls it.
struct Bed {
    const char* name;
    std::function<Bytes()> build;
    std::vector<const char*> needed;  ///< files without which nothing starts, on the volume that has them
    unsigned every = 1;               ///< which part of the reads and sectors is tried without being asked for all
    std::string board = {};           ///< empty: a PC
};

void PrintTo(const Bed& bed, std::ostream* out) { *out << bed.name; }

std::set<std::uint64_t> sectors_of(const Machine& machine, const std::vector<const char*>& files) {
    std::set<std::uint64_t> out = {0};
    for (const auto& disk : machine.disks)
        for (const auto& volume : disk.volumes)
            for (const char* path : files) {
                const auto* fs = volume->files(Observer::Loader);
                const auto found = fs != nullptr ? resolve(*fs, path) : fail(ErrorKind::NotFound, "no files");
                const auto file = found ? fs->open(found->file.id, path) : tl::unexpected(found.error());
                if (!file) continue;
                for (const auto& range : (*file)->locate(0, (*file)->size()))
                    for (auto at = range.offset / sector; at * sector < range.offset + range.length; ++at)
                        out.insert(at);
            }
    return out;
}

class EveryRead : public testing::TestWithParam<Bed> {
protected:
    EveryRead() : disk_(memory_source(GetParam().build(), "d1", 1)), watched_(std::make_shared<Watched>(disk_)) {
        Walked walked(watched_, GetParam().board);
        sound_ = walked.starts();
        needed_ = sectors_of(walked.machine, GetParam().needed);
    }
    [[nodiscard]] static bool all() { return std::getenv("HERBERGE_EVERY_READ") != nullptr; }

    /// What is wrong with what a walk says that lost something; empty: nothing.
    [[nodiscard]] std::string complaint(const Walked& walked, std::optional<std::uint64_t> lost) const {
        const auto now = walked.starts();
        if (lost && needed_.contains(*lost) && walked.verdict.all_start())
            return "starts, without a byte that it needs";
        if (now == sound_) return {};
        const auto told = std::ranges::find(walked.verdict.findings, Code::MediumUnreadable, &Finding::code);
        if (told == walked.verdict.findings.end() || !told->evidence.front().range) return "no finding names the loss";
        if (!names_the_loss(walked.said())) {
            std::string rungs;
            for (const auto& system : walked.verdict.systems)
                for (const auto& rung : system.stages)
                    if (rung.state == State::Breaks || rung.state == State::Unknown) rungs += " | " + rung.text;
            return "became " + now + "and nothing is said of the loss:" + rungs;
        }
        // The stage at which a system would now stop says so itself.
        for (const auto& system : walked.verdict.systems) {
            if (!system.stops_at || system.starts == Starts::Yes || sound_ != "yes ") continue;
            std::string own = system.symptom + "\n" + system.at(*system.stops_at).text;
            for (const auto& evidence : system.at(*system.stops_at).evidence) own += "\n" + evidence.found;
            if (!names_the_loss(own)) return "became " + now + "and that stage says: " + own;
        }
        return {};
    }
    void note(const std::string& what, const std::string& complaint) {
        if (!complaint.empty() && complaints_.size() < 40) complaints_.push_back(what + " " + complaint);
    }
    void TearDown() override {
        std::string all;
        for (const auto& one : complaints_) all += "\n" + one;
        EXPECT_EQ(all, "");
    }
    Source disk_;
    std::shared_ptr<Watched> watched_;
    std::string sound_;
    std::set<std::uint64_t> needed_;
    std::vector<std::string> complaints_;
};

TEST_P(EveryRead, MayFailOnce) {
    const auto reads = watched_->reads();
    ASSERT_GT(reads, 10U);
    const std::size_t step = all() ? 1 : GetParam().every;
    for (std::size_t n = 0; n < reads; n += step)
        note("read " + std::to_string(n),
             complaint(Walked(std::make_shared<Watched>(disk_, n), GetParam().board), std::nullopt));
}

class EverySector : public EveryRead {};
TEST_P(EverySector, MayBeLost) {
    std::size_t number = 0, lost_needed = 0;
    const std::size_t step = all() ? 1 : GetParam().every;
    for (const auto at : watched_->touched()) {
        // Of the files without which nothing starts, the first and every sixteenth sector at least.
        const bool needed = needed_.contains(at) && lost_needed++ % 16 == 0;
        if (number++ % step != 0 && !needed) continue;
        const auto lost = with_unreadable(disk_, {{at * sector, sector}});
        const Walked walked(lost, GetParam().board);
        note("sector " + std::to_string(at), complaint(walked, at));
        if (walked.starts() != sound_) EXPECT_FALSE(lost->asked().empty());
    }
}

TEST(Losses, WhatIsMissedForThemIsSaidToLieThere) {
    // A folder that could not be listed once: the machine cannot list it either.
    const auto disk = memory_source(demo::weather_station().build(), "d1", 1);
    const auto watched = std::make_shared<Watched>(disk);
    ASSERT_EQ(Walked(watched, demo::station_board).starts(), "yes ");
    std::size_t seen = 0;
    for (std::size_t n = 0; n < watched->reads(); ++n) {
        const Walked walked(std::make_shared<Watched>(disk, n), demo::station_board);
        for (const auto& rung : walked.verdict.systems.at(0).stages) {
            if (rung.text.find("; but d1 does not give all that was asked for: what is missed may lie there") ==
                std::string::npos)
                continue;
            ++seen;
            EXPECT_EQ(rung.state, State::Breaks);
            EXPECT_EQ(walked.verdict.systems[0].starts, Starts::No);
            EXPECT_EQ(walked.verdict.systems[0].stops_at, rung.stage);
            ASSERT_FALSE(rung.evidence.empty());
            EXPECT_EQ(rung.evidence.back().found, "the medium does not give them");
            ASSERT_TRUE(rung.evidence.back().range);
            EXPECT_EQ(rung.evidence.back().range->length, sector);
        }
        if (seen >= 5) break;
    }
    EXPECT_GE(seen, 5U);
}

std::vector<Bed> beds() {
    const auto kernel = "/boot/vmlinuz-6.1.0-almhof", ramdisk = "/boot/initrd.img-6.1.0-almhof";
    return {
        {"FrontDesk", [] { return demo::front_desk().build(); }, {kernel, ramdisk, "/boot/grub/grub.cfg"}, 23},
        {"Reception", [] { return demo::reception().build(); }, {kernel, ramdisk, "/boot/grub/grub.cfg"}, 97},
        {"Kitchen", [] { return demo::kitchen().build(); }, {kernel, ramdisk, "/boot/grub/grub.cfg"}, 97},
        {"OfficePc", [] { return demo::office_pc().build(); }, {"/bootmgr", "/Boot/BCD"}, 61},
        {"Cellar", [] { return demo::cellar().build(); }, {kernel, ramdisk, "/boot/grub/grub.cfg"}, 97},
        {"Kiosk", [] { return demo::kiosk().build(); }, {"/EFI/BOOT/BOOTX64.EFI", "/EFI/Linux/checkin-4.efi"}, 61},
        {"HelpDisc",
         [] { return demo::help_disc().build().bytes; },
         {demo::help_config, "/live/vmlinuz", "/live/initrd.img"},
         97},
        {"WeatherStation",
         [] { return demo::weather_station().build(); },
         {"/station.scr", "/station.itb"},
         61,
         demo::station_board},
    };
}
INSTANTIATE_TEST_SUITE_P(All, EveryRead, testing::ValuesIn(beds()), support::by_name);
INSTANTIATE_TEST_SUITE_P(All, EverySector, testing::ValuesIn(beds()), support::by_name);

}  // namespace
