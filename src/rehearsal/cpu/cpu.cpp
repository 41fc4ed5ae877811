// SPDX-License-Identifier: MIT
#include "rehearsal/cpu/cpu.hpp"

#include <utility>

#include "rehearsal/cpu/decode.hpp"
#include "rehearsal/cpu/operations.hpp"

namespace herberge::rehearsal {

namespace {

constexpr std::size_t most_operations = 32;  // of a run
constexpr std::uint32_t block = 512;         // a run ends with the block of memory that it begins in
constexpr std::size_t most_runs = 1U << 16U;
constexpr std::uint64_t work_of_fault = 64, work_of_decoding = 8;

}  // namespace

Cpu::Cpu(Memory& ram, CpuPorts& io) : memory(ram), ports(io), cache_(cache_size) {
    memory.code_written = [this](std::uint32_t address) { discard(address); };
}
Cpu::~Cpu() { memory.code_written = nullptr; }

std::uint32_t Cpu::eflags() const {
    return other_flags | (carry(*this) ? flag::carry : 0) | (parity(*this) ? flag::parity : 0) |
           (adjust(*this) ? flag::adjust : 0) | (zero(*this) ? flag::zero : 0) | (sign(*this) ? flag::sign : 0) |
           (overflow(*this) ? flag::overflow : 0);
}

void Cpu::set_eflags(std::uint32_t value) {
    constexpr std::uint32_t known = flag::arithmetic | flag::trap | flag::interrupt | flag::direction | 0x3000U |
                                    flag::nested | flag::resume | flag::virtual_8086 | flag::check | flag::id;
    value &= known;
    set_carries(*this, (value & flag::carry) != 0, (value & flag::overflow) != 0);
    parity_of = (value & flag::parity) != 0 ? 0 : 1;
    adjust_of = value & flag::adjust;
    zero_of = (value & flag::zero) != 0 ? 0 : 1;
    sign_of = (value & flag::sign) != 0 ? 1U << 31U : 0;
    other_flags = (value & ~flag::arithmetic) | flag::always;
}

void Cpu::stop(CpuStop why, std::string text) {
    stop_ = why;
    why_ = std::move(text);
    leave |= turned;
}

/// Delivers an exception; one that cannot be delivered ends the run, as a CPU shuts down.
void Cpu::on_fault(const CpuFault& fault) {
    if (stop_ == CpuStop::Unsupported) return;
    work_ += work_of_fault;
    try {
        deliver(fault.vector, protected_mode() ? fault.error : std::nullopt, false);
    } catch (const CpuFault&) {
        if (stop_ == CpuStop::None) stop(CpuStop::Fault, "exception " + std::to_string(fault.vector));
    }
}

void Cpu::forget_code() {
    for (auto& [page, runs] : pages_) {
        memory.unmark_code(page * Memory::page_size);
        memory.unmark_code((page + 1) * Memory::page_size);
        for (auto& run : runs) {
            if (run.get() == current_) retired_.push_back(std::move(run));
        }
    }
    pages_.clear();
    runs_ = 0;
    cache_.assign(cache_size, Cached{});
    leave |= turned;
}

/// What lies in the page of this address is decoded anew; what begins in the page before it may reach into it.
void Cpu::discard(std::uint32_t address) {
    const std::uint32_t page = address / Memory::page_size;
    for (const std::uint32_t number : {page, page - 1}) {
        const auto found = pages_.find(number);
        if (found == pages_.end()) continue;
        for (auto& run : found->second) {
            cache_[run->linear % cache_size] = Cached{};
            if (run.get() == current_) {
                leave |= turned;
                retired_.push_back(std::move(run));
            }
        }
        runs_ -= found->second.size();
        pages_.erase(found);
    }
    // Marks of the page before stay: a run that begins before that page may reach into it.
    memory.unmark_code(address);
}

std::unique_ptr<Cpu::Run> Cpu::decode_run(bool& unreachable) const {
    auto made = std::make_unique<Run>();
    made->linear = memory.masked(linear());
    made->big = segments[CS].big;
    made->zeros = memory.load<std::uint32_t>(made->linear) == 0;
    for (bool ends = false; !ends && made->operations.size() < most_operations;) {
        auto decoded = decode(*this, eip + made->bytes);
        made->bytes += decoded.operation.length;
        decoded.operation.end = static_cast<std::uint16_t>(made->bytes);
        made->operations.push_back(decoded.operation);
        unreachable = decoded.unreachable;
        ends = decoded.ends || (made->linear + made->bytes) / block != made->linear / block;
    }
    return made;
}

/// The run at CS:EIP, decoded if need be.
inline Cpu::Run* Cpu::find() {
    const std::uint32_t address = memory.masked(linear());
    const Cached& cached = cache_[address % cache_size];
    if (cached.address == address && cached.run != nullptr && cached.big == segments[CS].big && fits(*cached.run))
        [[likely]]
        return cached.run;
    return find_slowly(address);
}

/// Where the segment ends inside of a known run, what is run is another.
inline bool Cpu::fits(const Run& run) const {
    const std::uint32_t last = eip + (run.bytes - 1);
    return last <= segments[CS].last && last >= eip;
}

Cpu::Run* Cpu::find_slowly(std::uint32_t address) {
    const bool big = segments[CS].big;
    Cached& cached = cache_[address % cache_size];
    const auto page = pages_.find(address / Memory::page_size);
    if (page != pages_.end())
        for (auto& run : page->second)
            if (run->linear == address && run->big == big && fits(*run)) {
                cached = {address, big, run.get()};
                return run.get();
            }
    bool unreachable = false;
    auto made = decode_run(unreachable);
    work_ += work_of_decoding * made->operations.size();
    if (unreachable) {
        once_ = std::move(made);
        return once_.get();
    }
    if (runs_ >= most_runs) forget_code();
    memory.mark_code(address, made->bytes);
    ++runs_;
    auto& runs = pages_[address / Memory::page_size];
    runs.push_back(std::move(made));
    cached = {address, big, runs.back().get()};
    return cached.run;
}

void Cpu::step() {
    if (stop_ != CpuStop::None) return;
    const auto decoded = decode(*this, eip);
    Run one;
    one.operations.push_back(decoded.operation);
    one.operations.front().end = one.operations.front().length;
    execute(one);
}

/// One instruction with the trap flag set: exception 1 follows, unless the instruction delivers one of its own or loads
/// SS.
std::uint32_t Cpu::step_trapped() {
    constexpr std::uint32_t single_step = 1U << 14U;  // of DR6
    trapped = true;
    step();
    if (std::exchange(trapped, false) && (stop_ == CpuStop::None || stop_ == CpuStop::Halted)) {
        stop_ = CpuStop::None;
        debug[6] |= single_step;
        on_fault({exception::debug, std::nullopt});
    }
    leave |= turned;
    return 1;
}

std::uint32_t Cpu::run() {
    if (stop_ != CpuStop::None) return 0;
    if (retired_.size() > 64) retired_.clear();
    const std::uint32_t done = (other_flags & flag::trap) != 0 ? step_trapped() : execute(*find());
    executed_ += done;
    return done;
}

std::uint64_t Cpu::run_on(const Stretch& stretch) {
    constexpr std::uint32_t watched_block = 512;
    const std::uint64_t before = executed_;
    const std::uint32_t here = linear() / watched_block;
    if (run() == 0) return 0;
    for (;;) {
        const std::uint32_t at = linear();
        if ((leave & turned) != 0 || at / watched_block != here || at % watched_block == 0 || eip == 0 ||
            at == stretch.watched || work_ >= stretch.work || executed_ - before >= stretch.instructions)
            break;
        const Run& next = *find();
        if (next.zeros) break;
        executed_ += execute(next);
    }
    return executed_ - before;
}

std::uint32_t Cpu::execute(const Run& run) {
    current_ = &run;
    run_eip = eip;
    leave = 0;
    const Operation* const first = run.operations.data();
    const Operation* const last = first + run.operations.size() - 1;
    const Operation* op = first;
    try {
        for (; op != last; ++op) {
            op->run(*this, *op);
            if (leave != 0) [[unlikely]] {
                if ((leave & jumped) == 0) eip = run_eip + op->end;
                current_ = nullptr;
                return static_cast<std::uint32_t>(op - first) + 1;
            }
        }
        eip = run_eip + last->end;
        last->run(*this, *last);
    } catch (const CpuFault& fault) {
        eip = run_eip + op->end - op->length;
        on_fault(fault);
    }
    current_ = nullptr;
    return static_cast<std::uint32_t>(op - first) + 1;
}

}  // namespace herberge::rehearsal
