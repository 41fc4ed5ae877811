// SPDX-License-Identifier: MIT
// Images cut at every sector, and each field of the structures that a walk reads first at 0, 1 and its largest value:
// the walk ends, says something, and what it says can be written down. HERBERGE_EVERY_EDGE=1 takes all of them; without
// it a part.
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

std::size_t step_of(std::size_t usual) { return std::getenv("HERBERGE_EVERY_EDGE") != nullptr ? 1 : usual; }

/// A walk over these bytes, and the document that tells it.
Verdict walk(Bytes image) {
    const auto machine = support::machine_of(std::move(image));
    auto verdict = check(machine);
    EXPECT_EQ(support::schema_problem(check_json(machine, verdict)), "");
    return verdict;
}

TEST(CutImages, NeverStart) {
    const Bytes disks[] = {demo::front_desk().build(), demo::kiosk().build(), demo::office_pc().build()};
    for (const auto& whole : disks) {
        ASSERT_TRUE(walk(whole).all_start());
        const std::size_t step = step_of(61);
        for (std::size_t sectors = 0; sectors <= 2048; sectors += step) {
            const auto verdict = walk({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(sectors * 512)});
            EXPECT_FALSE(verdict.all_start()) << sectors;
        }
        // Not aligned to sectors, and one byte short of the first one.
        for (const std::size_t bytes : {std::size_t{1}, std::size_t{511}, std::size_t{513}, std::size_t{65537}})
            EXPECT_FALSE(walk({whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(bytes)}).all_start())
                << bytes;
    }
}

struct Area {
    const char* name;
    std::function<Bytes()> build;
    std::size_t at, size;
};
class Fields : public testing::TestWithParam<Area> {};
TEST_P(Fields, AtTheirEdges) {
    const auto& area = GetParam();
    const Bytes sound = area.build();
    const std::size_t step = step_of(29);
    std::size_t number = 0;
    for (std::size_t at = area.at; at + 8 <= area.at + area.size; at += 2)
        for (const std::size_t width : {std::size_t{2}, std::size_t{4}, std::size_t{8}})
            for (const int edge : {0, 1, 2}) {
                if (at % width != 0 || number++ % step != 0) continue;
                Bytes image = sound;
                std::fill_n(image.begin() + static_cast<std::ptrdiff_t>(at), width,
                            static_cast<std::uint8_t>(edge == 2 ? 0xFF : 0));
                if (edge == 1) image[at] = 1;
                const auto verdict = walk(std::move(image));
                EXPECT_FALSE(verdict.systems.empty() && verdict.findings.empty()) << at << ' ' << width << ' ' << edge;
            }
}
INSTANTIATE_TEST_SUITE_P(
    All, Fields,
    testing::Values(Area{"Mbr", [] { return demo::front_desk().build(); }, 440, 72},
                    Area{"ExtSuperblock", [] { return demo::front_desk().build(); }, 2048 * 512 + 1024, 1024},
                    Area{"ExtGroups", [] { return demo::front_desk().build(); }, 2048 * 512 + 2048, 128},
                    Area{"GptHeader", [] { return demo::kiosk().build(); }, 512, 92},
                    Area{"GptEntries", [] { return demo::kiosk().build(); }, 1024, 256},
                    Area{"NtfsOrFatBoot", [] { return demo::office_pc().build(); }, 2048 * 512, 128}),
    support::by_name);

}  // namespace
