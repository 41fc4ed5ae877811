// SPDX-License-Identifier: MIT
// The CPU of the rehearsal by itself: the input is code at 9000, with registers, descriptors and interrupt gates in
// front. The first byte: bit 0 protected mode, bit 1 the line A20 is off, bit 2 segments of 4 KiB.
#include <algorithm>
#include <cstdint>
#include <cstdlib>
#include <cstring>

#include "rehearsal/cpu/cpu.hpp"

namespace {

using namespace herberge::rehearsal;

struct Ports : CpuPorts {
    std::uint32_t port_in(std::uint16_t port, unsigned /*size*/) override { return port; }
    void port_out(std::uint16_t /*port*/, std::uint32_t /*value*/, unsigned /*size*/) override {}
    std::array<std::uint32_t, 4> cpuid(std::uint32_t leaf) override { return {leaf, leaf, leaf, leaf}; }
};

constexpr std::uint32_t memory_size = 1U << 21U, most_touched = 1U << 20U;
constexpr unsigned most_runs = 500;
constexpr std::uint64_t most_work = 20'000;

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    constexpr std::size_t registers = 33, table = 64;
    if (size < registers + 2 * table + 1) return 0;
    Ports ports;
    Memory memory(memory_size, most_touched);
    Cpu cpu(memory, ports);
    std::memcpy(cpu.gpr.data(), data + 1, 32);
    memory.store(0x1000, std::span(data + registers, table));          // descriptors
    memory.store(0x2000, std::span(data + registers + table, table));  // gates
    memory.store(0x9000, std::span(data, size)
                             .subspan(registers + 2 * table)
                             .first(std::min<std::size_t>(size - registers - 2 * table, 4096)));
    cpu.gdt = {0x1000, table - 1, 0};
    if ((data[0] & 1U) != 0) {
        cpu.cr0 |= 1U;
        cpu.idt = {0x2000, table - 1, 0};
        for (auto& segment : cpu.segments) {
            segment.last = (data[0] & 4U) != 0 ? 0xFFFFU : 0xFFFFFFFFU;
            segment.big = true;
        }
    }
    if ((data[0] & 2U) != 0) memory.set_a20(false);
    cpu.eip = 0x9000;
    std::uint64_t work = 0;
    for (unsigned i = 0; i < most_runs && cpu.stopped() == CpuStop::None; ++i) {
        if (cpu.run() == 0) std::abort();
        work += cpu.take_work();
        if (work > most_work) break;
    }
    if (cpu.gpr[8] != 0 || memory.touched() > most_touched) std::abort();
    return 0;
}
