// SPDX-License-Identifier: MIT
// What the parts of a walk cost. Yardsticks are the bare libraries on the same data.
// HERBERGE_BENCH_IMAGE=disk.img adds a walk of a disk of your own.
#include <benchmark/benchmark.h>
#include <zlib.h>
#include <cstdlib>
#include <filesystem>

#include <herberge/herberge.hpp>

#include "demo_disks.hpp"

namespace {

const forge::Bytes& desk() {
    static const forge::Bytes image = demo::front_desk().build();
    return image;
}

void walk(benchmark::State& state, const std::string& path) {
    std::uint64_t bytes = 0;
    for (auto _ : state) {
        const auto file = herberge::open_image(path, 1);
        herberge::Machine machine;
        machine.disks.push_back(herberge::inspect_disk(*file, 1, path));
        benchmark::DoNotOptimize(herberge::check(machine));
        bytes = (*file)->counters().bytes;
    }
    state.counters["bytes_read"] = static_cast<double>(bytes);
}

void check_front_desk(benchmark::State& state) {
    const std::string path = std::filesystem::temp_directory_path() / "herberge-bench.img";
    forge::write_sparse(path, desk(), static_cast<std::uint64_t>(state.range(0)));
    walk(state, path);
    std::filesystem::remove(path);
}
BENCHMARK(check_front_desk)->Arg(0)->Arg(std::int64_t{1} << 40)->Unit(benchmark::kMillisecond);

void check_given_image(benchmark::State& state) { walk(state, std::getenv("HERBERGE_BENCH_IMAGE")); }

forge::Bytes large_ramdisk() {
    forge::Tree tree;
    tree.file("/init", "#!/bin/sh\n", 0755);
    for (int i = 0; i < 200; ++i) {
        auto body = forge::noise(20000, static_cast<std::uint32_t>(i));
        const auto again = body;
        body.insert(body.end(), again.begin(), again.end());
        tree.file("/lib/modules/6.1.0/m" + std::to_string(i) + ".ko", body);
    }
    return forge::gzip(forge::make_cpio(tree));
}

void ramdisk_inspected(benchmark::State& state) {
    const auto source = herberge::memory_source(large_ramdisk(), "rd");
    for (auto _ : state) benchmark::DoNotOptimize(herberge::inspect_ramdisk(*source));
    state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations()) * static_cast<std::int64_t>(source->size()));
}
BENCHMARK(ramdisk_inspected)->Unit(benchmark::kMillisecond);

void ramdisk_only_inflated(benchmark::State& state) {
    auto packed = large_ramdisk();
    std::vector<std::uint8_t> out(256U << 10U);
    for (auto _ : state) {
        z_stream z{};
        inflateInit2(&z, 15 + 16);
        z.next_in = packed.data();
        z.avail_in = static_cast<uInt>(packed.size());
        int code = Z_OK;
        while (code == Z_OK) {
            z.next_out = out.data();
            z.avail_out = static_cast<uInt>(out.size());
            code = inflate(&z, Z_NO_FLUSH);
        }
        inflateEnd(&z);
        benchmark::DoNotOptimize(code);
    }
    state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations()) * static_cast<std::int64_t>(packed.size()));
}
BENCHMARK(ramdisk_only_inflated)->Unit(benchmark::kMillisecond);

void grub_core_read(benchmark::State& state) {
    herberge::Machine machine;
    machine.disks.push_back(herberge::inspect_disk(herberge::memory_source(desk(), "d1", 1), 1, "desk"));
    const auto boot = herberge::recognise_grub_boot(desk());
    for (auto _ : state) benchmark::DoNotOptimize(herberge::read_grub_core(machine.disks[0], *boot));
}
BENCHMARK(grub_core_read)->Unit(benchmark::kMicrosecond);

/// What `check` runs of the front desk's boot code.
void rehearsal_brief(benchmark::State& state) {
    herberge::Machine machine;
    machine.disks.push_back(herberge::inspect_disk(herberge::memory_source(desk(), "d1", 1), 1, "desk"));
    std::uint64_t instructions = 0;
    for (auto _ : state)
        instructions = herberge::rehearse(machine, 1, herberge::RehearsalOptions::brief()).instructions;
    state.counters["instructions"] = static_cast<double>(instructions);
}
BENCHMARK(rehearsal_brief)->Unit(benchmark::kMicrosecond);

/// dec ecx; jnz: two instructions a turn, no memory but their own bytes.
const forge::Bytes counting_loop = {0x66, 0xB9, 0x40, 0x42, 0x0F, 0x00, 0x66, 0x49, 0x75, 0xFC, 0xFA, 0xF4};
constexpr double loop_instructions = 2'000'003;

void rehearsal_instructions(benchmark::State& state) {
    forge::Bytes disk(1U << 20U);
    std::copy(counting_loop.begin(), counting_loop.end(), disk.begin());
    forge::put16(disk, 510, 0xAA55);
    herberge::Machine machine;
    machine.disks.push_back(herberge::inspect_disk(herberge::memory_source(disk, "d1", 1), 1, "loop"));
    for (auto _ : state) benchmark::DoNotOptimize(herberge::rehearse(machine, 1));
    state.counters["instructions/s"] =
        benchmark::Counter(loop_instructions, benchmark::Counter::kIsIterationInvariantRate);
}
BENCHMARK(rehearsal_instructions)->Unit(benchmark::kMillisecond);

}  // namespace

int main(int argc, char** argv) {
    if (std::getenv("HERBERGE_BENCH_IMAGE") != nullptr)
        benchmark::RegisterBenchmark("check_given_image", check_given_image)->Unit(benchmark::kMillisecond);
    benchmark::Initialize(&argc, argv);
    benchmark::RunSpecifiedBenchmarks();
    return 0;
}
