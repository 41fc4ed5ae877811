// SPDX-License-Identifier: MIT
#include "unlock/ciphers.hpp"

#include <fmt/format.h>
#include <gcrypt.h>
#include <algorithm>
#include <array>
#include <thread>

#include "bytes/held.hpp"

namespace herberge::ciphers {

namespace {

/// The library wants to be set up once; its locked pool of memory is not needed.
void set_up() {
    static const bool once = [] {
        gcry_check_version(nullptr);
        gcry_control(GCRYCTL_DISABLE_SECMEM, 0);
        gcry_control(GCRYCTL_INITIALIZATION_FINISHED, 0);
        return true;
    }();
    static_cast<void>(once);
}

int hash_of(std::string_view name) {
    set_up();
    const int found = gcry_md_map_name(std::string(name).c_str());
    return found != 0 && gcry_md_test_algo(found) == 0 ? found : 0;
}

constexpr std::uint64_t most_rounds = 200'000'000;
constexpr std::uint64_t most_memory = std::uint64_t{4} << 20U;     // KiB
constexpr std::uint64_t most_written = std::uint64_t{128} << 20U;  // KiB
constexpr std::uint64_t most_lanes = 32;

Error failed(gcry_error_t why) {
    return Error{gcry_err_code(why) == GPG_ERR_ENOMEM ? ErrorKind::Exhausted : ErrorKind::Unsupported,
                 gcry_strerror(why),
                 {},
                 {},
                 {}};
}

/// Lanes of one slice run side by side.
struct Lanes {
    std::vector<std::thread> running;
    static int dispatch(void* context, gcry_kdf_job_fn_t job, void* work) {
        try {
            static_cast<Lanes*>(context)->running.emplace_back(job, work);
        } catch (const std::exception&) {  // no thread, or no memory for one: nothing may be thrown through the library
            job(work);
        }
        return 0;
    }
    static int wait(void* context) {
        auto& lanes = static_cast<Lanes*>(context)->running;
        for (auto& lane : lanes) lane.join();
        lanes.clear();
        return 0;
    }
};

struct Handle {
    gcry_cipher_hd_t raw = nullptr;
    Handle() = default;
    Handle(const Handle&) = delete;
    Handle& operator=(const Handle&) = delete;
    ~Handle() { gcry_cipher_close(raw); }
};

struct Known {
    std::string_view name;
    std::array<std::pair<std::size_t, int>, 3> by_key;  ///< bytes of the key
};
constexpr Known known[] = {
    {"aes", {{{16, GCRY_CIPHER_AES128}, {24, GCRY_CIPHER_AES192}, {32, GCRY_CIPHER_AES256}}}},
    {"serpent", {{{16, GCRY_CIPHER_SERPENT128}, {24, GCRY_CIPHER_SERPENT192}, {32, GCRY_CIPHER_SERPENT256}}}},
    {"twofish", {{{16, GCRY_CIPHER_TWOFISH128}, {32, GCRY_CIPHER_TWOFISH}, {0, 0}}}},
    {"camellia", {{{16, GCRY_CIPHER_CAMELLIA128}, {24, GCRY_CIPHER_CAMELLIA192}, {32, GCRY_CIPHER_CAMELLIA256}}}},
};

constexpr std::size_t block = 16;

/// How the number of a sector becomes an initial vector (kernel drivers/md/dm-crypt.c).
enum class Vector : std::uint8_t { Plain, Plain64, Plain64Big, Essiv, Null };

class Packaged : public SectorCipher {
public:
    Result<void> start(int algorithm, int mode, std::span<const std::uint8_t> key, Vector vector) {
        vector_ = vector;
        gcry_error_t why = gcry_cipher_open(&data_.raw, algorithm, mode, 0);
        if (why == 0) why = gcry_cipher_setkey(data_.raw, key.data(), key.size());
        if (why != 0) return tl::unexpected(failed(why));
        return {};
    }
    Result<void> start_essiv(int algorithm, std::span<const std::uint8_t> key) {
        gcry_error_t why = gcry_cipher_open(&number_.raw, algorithm, GCRY_CIPHER_MODE_ECB, 0);
        if (why == 0) why = gcry_cipher_setkey(number_.raw, key.data(), key.size());
        if (why != 0) return tl::unexpected(failed(why));
        return {};
    }

    Result<void> decipher(std::uint64_t number, std::span<std::uint8_t> sector) const override {
        std::array<std::uint8_t, block> iv{};
        const std::size_t width = vector_ == Vector::Plain ? 4 : 8;
        if (vector_ != Vector::Null)
            for (std::size_t i = 0; i < width; ++i) {
                const auto part = static_cast<std::uint8_t>(number >> (8 * i));
                if (vector_ == Vector::Plain64Big) iv[block - 1 - i] = part;
                else iv[i] = part;
            }
        const std::scoped_lock hold(lock_);
        gcry_error_t why = 0;
        if (vector_ == Vector::Essiv) why = gcry_cipher_encrypt(number_.raw, iv.data(), iv.size(), nullptr, 0);
        if (why == 0) why = gcry_cipher_setiv(data_.raw, iv.data(), iv.size());
        if (why == 0) why = gcry_cipher_decrypt(data_.raw, sector.data(), sector.size(), nullptr, 0);
        if (why != 0) return tl::unexpected(failed(why));
        return {};
    }

private:
    mutable std::mutex lock_;  ///< the handles keep an initial vector
    Handle data_, number_;
    Vector vector_ = Vector::Plain64;
};

int algorithm_of(std::string_view name, std::size_t key_bytes) {
    const auto* row = std::ranges::find(known, name, &Known::name);
    if (row == std::end(known)) return 0;
    for (const auto& [bytes, algorithm] : row->by_key)
        if (bytes == key_bytes) return algorithm;
    return 0;
}

}  // namespace

std::size_t digest_size(std::string_view hash) {
    const int algorithm = hash_of(hash);
    return algorithm == 0 ? 0 : gcry_md_get_algo_dlen(algorithm);
}

std::vector<std::uint8_t> digest(std::string_view hash, std::initializer_list<std::span<const std::uint8_t>> parts) {
    const int algorithm = hash_of(hash);
    std::vector<std::uint8_t> out(digest_size(hash));
    gcry_md_hd_t context = nullptr;
    if (algorithm == 0 || gcry_md_open(&context, algorithm, 0) != 0) return out;
    const Held<gcry_md_handle, gcry_md_close> held(context);
    for (const auto& part : parts) gcry_md_write(context, part.data(), part.size());
    const auto* found = gcry_md_read(context, algorithm);
    std::copy_n(found, out.size(), out.begin());
    return out;
}

Result<Secret> pbkdf2(std::string_view hash, std::span<const std::uint8_t> password, std::span<const std::uint8_t> salt,
                      std::uint64_t rounds, std::size_t bytes) {
    const int algorithm = hash_of(hash);
    if (algorithm == 0) return fail(ErrorKind::Unsupported, fmt::format("the hash {} is not known", printable(hash)));
    if (rounds == 0) return fail(ErrorKind::Malformed, "a key derivation without rounds");
    if (rounds > most_rounds)
        return fail(ErrorKind::Exhausted, fmt::format("{} rounds of key derivation are too many", rounds));
    Secret out(std::vector<std::uint8_t>(bytes, 0));
    const auto why = gcry_kdf_derive(password.data(), password.size(), GCRY_KDF_PBKDF2, algorithm, salt.data(),
                                     salt.size(), static_cast<unsigned long>(rounds), bytes, out.bytes().data());
    if (why != 0) return tl::unexpected(failed(why));
    return out;
}

Result<Secret> argon2(const Argon2& cost, std::span<const std::uint8_t> password, std::span<const std::uint8_t> salt,
                      std::size_t bytes) {
    set_up();
    const int kind = cost.kind == "argon2i" ? GCRY_KDF_ARGON2I : cost.kind == "argon2id" ? GCRY_KDF_ARGON2ID : 0;
    if (kind == 0)
        return fail(ErrorKind::Unsupported, fmt::format("the derivation {} is not known", printable(cost.kind)));
    if (cost.passes == 0 || cost.lanes == 0 || cost.memory < 8 * cost.lanes)
        return fail(ErrorKind::Malformed, fmt::format("{} with {} passes over {} KiB in {} lanes", cost.kind,
                                                      cost.passes, cost.memory, cost.lanes));
    if (cost.memory > most_memory || cost.lanes > most_lanes || cost.passes > most_written / cost.memory)
        return fail(ErrorKind::Exhausted, fmt::format("{} with {} passes over {} KiB in {} lanes costs too much",
                                                      cost.kind, cost.passes, cost.memory, cost.lanes));
    const std::array<unsigned long, 4> parameters = {bytes, static_cast<unsigned long>(cost.passes),
                                                     static_cast<unsigned long>(cost.memory),
                                                     static_cast<unsigned long>(cost.lanes)};
    gcry_kdf_hd_t context = nullptr;
    auto why = gcry_kdf_open(&context, GCRY_KDF_ARGON2, kind, parameters.data(), parameters.size(), password.data(),
                             password.size(), salt.data(), salt.size(), nullptr, 0, nullptr, 0);
    if (why != 0) return tl::unexpected(failed(why));
    const Held<gcry_kdf_handle, gcry_kdf_close> held(context);
    Secret out(std::vector<std::uint8_t>(bytes, 0));
    Lanes lanes;
    const gcry_kdf_thread_ops_t threads = {&lanes, Lanes::dispatch, Lanes::wait};
    why = gcry_kdf_compute(context, cost.lanes > 1 ? &threads : nullptr);
    if (why == 0) why = gcry_kdf_final(context, bytes, out.bytes().data());
    if (why != 0) return tl::unexpected(failed(why));
    return out;
}

Secret merge_stripes(std::string_view hash, std::span<const std::uint8_t> material, std::size_t bytes,
                     std::size_t stripes) {
    const std::size_t piece = digest_size(hash);
    Secret out(std::vector<std::uint8_t>(bytes, 0));
    auto state = out.bytes();
    for (std::size_t stripe = 0; stripe < stripes && piece != 0; ++stripe) {
        const auto part = material.subspan(stripe * bytes, bytes);
        for (std::size_t i = 0; i < bytes; ++i) state[i] ^= part[i];
        if (stripe + 1 == stripes) break;
        // Diffuse: each piece becomes the hash of its number and itself.
        for (std::size_t at = 0, number = 0; at < bytes; at += piece, ++number) {
            const auto here = state.subspan(at, std::min(piece, bytes - at));
            const std::array<std::uint8_t, 4> counted = {
                static_cast<std::uint8_t>(number >> 24U), static_cast<std::uint8_t>(number >> 16U),
                static_cast<std::uint8_t>(number >> 8U), static_cast<std::uint8_t>(number)};
            const auto mixed = digest(hash, {counted, here});
            std::copy_n(mixed.begin(), here.size(), here.begin());
        }
    }
    return out;
}

Result<std::shared_ptr<const SectorCipher>> SectorCipher::make(std::string_view name,
                                                               std::span<const std::uint8_t> key) {
    set_up();
    const auto refuse = [&](std::string_view part) {
        return fail(ErrorKind::Unsupported, fmt::format("the cipher {} is not known ({})", printable(name), part));
    };
    const auto first = name.find('-');
    if (first == std::string_view::npos) return refuse("no mode");
    const auto algorithm_name = name.substr(0, first);
    const auto rest = name.substr(first + 1);
    const auto second = rest.find('-');
    const auto mode = rest.substr(0, second);
    const auto numbering = second == std::string_view::npos ? std::string_view{} : rest.substr(second + 1);
    const bool xts = mode == "xts";
    if (!xts && mode != "cbc") return refuse(mode);
    const int algorithm = algorithm_of(algorithm_name, xts ? key.size() / 2 : key.size());
    if (algorithm == 0) {
        if (std::ranges::find(known, algorithm_name, &Known::name) == std::end(known)) return refuse(algorithm_name);
        return fail(ErrorKind::Malformed, fmt::format("a key of {} bytes does not fit {}", key.size(), name));
    }
    auto out = std::make_shared<Packaged>();
    Vector vector = Vector::Plain64;
    if (numbering == "plain") vector = Vector::Plain;
    else if (numbering == "plain64") vector = Vector::Plain64;
    else if (numbering == "plain64be") vector = Vector::Plain64Big;
    else if (numbering == "null") vector = Vector::Null;
    else if (numbering.starts_with("essiv:") && !xts) {
        vector = Vector::Essiv;
        const auto hash = numbering.substr(6);
        if (digest_size(hash) == 0) return refuse(numbering);
        const Secret hashed(digest(hash, {key}));
        const int number_algorithm = algorithm_of(algorithm_name, hashed.bytes().size());
        if (number_algorithm == 0) return refuse(numbering);
        if (auto done = out->start_essiv(number_algorithm, hashed.bytes()); !done) return tl::unexpected(done.error());
    } else {
        return refuse(numbering);
    }
    if (auto done = out->start(algorithm, xts ? GCRY_CIPHER_MODE_XTS : GCRY_CIPHER_MODE_CBC, key, vector); !done)
        return tl::unexpected(done.error());
    return out;
}

}  // namespace herberge::ciphers
