// SPDX-License-Identifier: MIT
#include "artifact/image_signature.hpp"

#include <fmt/format.h>
#include <libfdt.h>
#include <openssl/core_names.h>
#include <openssl/evp.h>
#include <openssl/param_build.h>
#include <openssl/rsa.h>
#include <algorithm>
#include <memory>

#include "artifact/pkcs7.hpp"

namespace herberge {

namespace {

using Outcome = SignatureCheck::Outcome;

using Region = std::pair<std::uint64_t, std::uint64_t>;  ///< offset and length

/// The parts of a tree that a signature covers (boot/fdt_region.c, fdt_find_regions): what belongs to the nodes in
/// `wanted`, without the bytes of images.
std::optional<std::vector<Region>> regions_of(std::span<const std::uint8_t> tree,
                                              const std::vector<std::string>& wanted) {
    static constexpr std::string_view left_out[] = {"data", "data-size", "data-position", "data-offset"};
    constexpr std::size_t most = 1000, most_depth = 32;
    const void* fdt = tree.data();
    const std::uint64_t base = fdt_off_dt_struct(fdt);
    const auto region = [base](int from, int to) {
        return Region{base + static_cast<std::uint64_t>(from), static_cast<std::uint64_t>(to - from)};
    };
    std::vector<Region> out;
    std::vector<int> stack;
    std::vector<std::size_t> ends;
    std::string path;
    int want = 0, next = 0, start = -1;
    std::uint32_t tag = 0;
    do {
        const int offset = next;
        tag = fdt_next_tag(fdt, offset, &next);
        if (next < 0) return std::nullopt;
        int stop = next;
        bool include = false;
        switch (tag) {
            case FDT_PROP: {
                include = want >= 2;
                stop = offset;
                const auto* property = fdt_get_property_by_offset(fdt, offset, nullptr);
                const char* name =
                    property != nullptr ? fdt_string(fdt, static_cast<int>(fdt32_to_cpu(property->nameoff))) : nullptr;
                if (name == nullptr) return std::nullopt;
                if (std::ranges::find(left_out, std::string_view(name)) != std::end(left_out)) include = false;
                break;
            }
            case FDT_NOP:
                include = want >= 2;
                stop = offset;
                break;
            case FDT_BEGIN_NODE: {
                int length = 0;
                const char* name = fdt_get_name(fdt, offset, &length);
                if (name == nullptr || stack.size() >= most_depth) return std::nullopt;
                ends.push_back(path.size());
                if (path.size() != 1) path += '/';
                path.append(name, static_cast<std::size_t>(length));
                stack.push_back(want);
                if (want == 1) stop = offset;
                if (std::ranges::find(wanted, path) != wanted.end()) want = 2;
                else if (want != 0) --want;
                else stop = offset;
                include = want != 0;
                break;
            }
            case FDT_END_NODE:
                if (stack.empty()) return std::nullopt;
                include = want != 0;
                want = stack.back();
                stack.pop_back();
                path.resize(ends.back());
                ends.pop_back();
                break;
            case FDT_END: include = true; break;
            default: return std::nullopt;
        }
        if (include && start == -1) {
            const bool touches = !out.empty() && region(offset, offset).first == out.back().first + out.back().second;
            start = touches ? static_cast<int>(out.back().first - base) : offset;
            if (touches) out.pop_back();
        }
        if (!include && start != -1) {
            if (out.size() >= most) return std::nullopt;
            out.push_back(region(start, stop));
            start = -1;
        }
    } while (tag != FDT_END);
    if (start == -1) return std::nullopt;
    out.push_back(region(start, next));
    return out;
}

/// The digest's name, of "sha256,rsa2048"; empty: not one that is computed here.
const EVP_MD* digest_of(const std::string& algorithm) {
    const auto comma = algorithm.find(',');
    if (comma == std::string::npos || !algorithm.substr(comma + 1).starts_with("rsa")) return nullptr;
    const auto name = algorithm.substr(0, comma);
    return name == "sha1"     ? EVP_sha1()
           : name == "sha256" ? EVP_sha256()
           : name == "sha384" ? EVP_sha384()
           : name == "sha512" ? EVP_sha512()
                              : nullptr;
}

Held<EVP_PKEY, EVP_PKEY_free> public_key(const ImageKey& key) {
    const Held<BIGNUM, BN_free> modulus(BN_bin2bn(key.modulus.data(), static_cast<int>(key.modulus.size()), nullptr));
    const Held<BIGNUM, BN_free> exponent(BN_new());
    const Held<OSSL_PARAM_BLD, OSSL_PARAM_BLD_free> build(OSSL_PARAM_BLD_new());
    if (!modulus || !exponent || !build || BN_set_word(exponent.get(), key.exponent) != 1 ||
        OSSL_PARAM_BLD_push_BN(build.get(), OSSL_PKEY_PARAM_RSA_N, modulus.get()) != 1 ||
        OSSL_PARAM_BLD_push_BN(build.get(), OSSL_PKEY_PARAM_RSA_E, exponent.get()) != 1)
        return nullptr;
    const Held<OSSL_PARAM, OSSL_PARAM_free> parameters(OSSL_PARAM_BLD_to_param(build.get()));
    const Held<EVP_PKEY_CTX, EVP_PKEY_CTX_free> context(EVP_PKEY_CTX_new_from_name(nullptr, "RSA", nullptr));
    EVP_PKEY* out = nullptr;
    if (!parameters || !context || EVP_PKEY_fromdata_init(context.get()) != 1 ||
        EVP_PKEY_fromdata(context.get(), &out, EVP_PKEY_PUBLIC_KEY, parameters.get()) != 1)
        return nullptr;
    return Held<EVP_PKEY, EVP_PKEY_free>(out);
}

/// One signature over `parts` by one key.
Outcome verify(const ImageKey& key, const std::string& algorithm, bool pss,
               const std::vector<std::span<const std::uint8_t>>& parts, std::span<const std::uint8_t> value) {
    const EVP_MD* digest = digest_of(algorithm);
    const auto known = public_key(key);
    const Held<EVP_MD_CTX, EVP_MD_CTX_free> context(EVP_MD_CTX_new());
    EVP_PKEY_CTX* how = nullptr;
    if (digest == nullptr || !known || !context ||
        EVP_DigestVerifyInit(context.get(), &how, digest, nullptr, known.get()) != 1)
        return Outcome::Unknown;
    if (pss && (EVP_PKEY_CTX_set_rsa_padding(how, RSA_PKCS1_PSS_PADDING) != 1 ||
                EVP_PKEY_CTX_set_rsa_pss_saltlen(how, RSA_PSS_SALTLEN_AUTO) != 1))
        return Outcome::Unknown;
    for (const auto& part : parts)
        if (EVP_DigestVerifyUpdate(context.get(), part.data(), part.size()) != 1) return Outcome::Unknown;
    return EVP_DigestVerifyFinal(context.get(), value.data(), value.size()) == 1 ? Outcome::Holds : Outcome::Fails;
}

/// One signature node of a configuration (fit_config_check_sig).
SignatureCheck check_node(const DeviceTree& tree, int node, const ImageKey& key) {
    SignatureCheck out;
    const auto refused = [&](Outcome outcome, std::string text) {
        out.outcome = outcome;
        out.text = std::move(text);
        return out;
    };
    const auto algorithm = tree.text(node, "algo");
    const auto value = tree.property(node, "value");
    const auto nodes = tree.texts(node, "hashed-nodes");
    if (value.empty()) return refused(Outcome::Fails, "the signature has no value");
    if (nodes.empty()) return refused(Outcome::Fails, "the signature does not say which nodes it covers");
    const auto regions = regions_of(tree.bytes(), nodes);
    if (!regions) return refused(Outcome::Fails, "the nodes that it covers cannot be found");
    std::vector<std::span<const std::uint8_t>> parts;
    for (const auto& [offset, length] : *regions) {
        if (offset > tree.size() || length > tree.size() - offset)
            return refused(Outcome::Fails, "the nodes that it covers lie outside the tree");
        parts.push_back(tree.bytes().subspan(offset, length));
    }
    if (const auto strings = tree.property(node, "hashed-strings"); strings.size() == 8) {
        std::uint64_t length = 0;
        for (const auto byte : strings.subspan(4)) length = length << 8U | byte;
        const auto begin = static_cast<std::uint64_t>(fdt_off_dt_strings(tree.bytes().data()));
        if (begin > tree.size() || length > tree.size() - begin)
            return refused(Outcome::Fails, "the texts that it covers lie outside the tree");
        parts.push_back(tree.bytes().subspan(begin, length));
    }
    const auto came = verify(key, algorithm, tree.text(node, "padding") == "pss", parts, value);
    return refused(came, came == Outcome::Holds ? std::string{}
                         : came == Outcome::Unknown
                             ? fmt::format("its kind is not verified here: {}", printable(algorithm))
                             : std::string("its signature does not match its content"));
}

/// Goes through the keys that must have signed something, as U-Boot does: all of them, or one.
template <class Check>
SignatureCheck by_policy(const ImageKeys& keys, std::string_view what, const Check& check) {
    SignatureCheck last;
    bool asked = false;
    bool untold = false;
    for (const auto& key : keys.keys) {
        if (key.demanded != what) continue;
        asked = true;
        auto one = check(key);
        one.key = key.name;
        if (one.outcome == Outcome::Holds && keys.any) return one;
        untold = untold || one.outcome == Outcome::Unknown;
        if (one.outcome == Outcome::Fails && !keys.any) return one;
        if (one.outcome != Outcome::Holds) last = std::move(one);
    }
    if (asked && untold) last.outcome = Outcome::Unknown;
    return last;
}

}  // namespace

bool ImageKeys::demands(std::string_view what) const {
    return std::ranges::any_of(keys, [&](const ImageKey& key) { return key.demanded == what; });
}

ImageKeys image_keys(const DeviceTree& control) {
    constexpr std::size_t most = 64;
    ImageKeys out;
    const int all = control.node("/signature");
    if (all < 0) return out;
    out.any = control.text(all, "required-mode") == "any";
    for (const int node : control.children(all)) {
        if (out.keys.size() == most) break;
        ImageKey key;
        key.name = control.name(node);
        key.algorithm = control.text(node, "algo");
        key.demanded = control.text(node, "required");
        const auto modulus = control.property(node, "rsa,modulus");
        key.modulus.assign(modulus.begin(), modulus.end());
        key.exponent = control.number(node, "rsa,exponent").value_or(key.exponent);
        out.keys.push_back(std::move(key));
    }
    return out;
}

ImageKeys find_image_keys(const ByteSource& program) {
    constexpr std::uint64_t most = std::uint64_t{16} << 20U;
    constexpr std::string_view mark("\xD0\x0D\xFE\xED", 4);
    const auto bytes = program.bytes(0, std::min(program.size(), most));
    if (!bytes) return {};
    const std::string_view text(reinterpret_cast<const char*>(bytes->data()), bytes->size());
    for (auto at = text.find(mark); at != std::string_view::npos; at = text.find(mark, at + 1)) {
        if (at % 4 != 0) continue;
        const auto tree = DeviceTree::open(program, at);
        if (!tree) continue;
        if (auto keys = image_keys(*tree); !keys.keys.empty()) return keys;
    }
    return {};
}

SignatureCheck check_configuration(const Fit& fit, const std::string& name, const ImageKeys& keys) {
    const auto& tree = fit.tree();
    return by_policy(keys, "conf", [&](const ImageKey& key) {
        SignatureCheck out;
        out.outcome = Outcome::Fails;
        out.text = "it is not signed";
        const int node = tree.node("/configurations/" + name);
        if (node < 0) return out;
        for (const int child : tree.children(node)) {
            if (!tree.name(child).starts_with("signature")) continue;
            auto one = check_node(tree, child, key);
            one.node = fmt::format("/configurations/{}/{}", name, tree.name(child));
            if (one.outcome == Outcome::Holds) return one;
            out = std::move(one);
        }
        return out;
    });
}

SignatureCheck check_image(const Fit& fit, const FitImage& image, const ImageKeys& keys) {
    const auto& tree = fit.tree();
    return by_policy(keys, "image", [&](const ImageKey& key) {
        SignatureCheck out;
        out.outcome = Outcome::Fails;
        out.text = "it is not signed";
        const int node = tree.node("/images/" + image.name);
        constexpr std::uint64_t most = std::uint64_t{256} << 20U;
        const auto content = fit.content(image, most);
        if (node < 0) return out;
        for (const int child : tree.children(node)) {
            if (!tree.name(child).starts_with("signature")) continue;
            out.node = fmt::format("/images/{}/{}", image.name, tree.name(child));
            if (!content) {
                out.outcome = Outcome::Unknown;
                out.text = content.error().what;
                return out;
            }
            out.outcome = verify(key, tree.text(child, "algo"), tree.text(child, "padding") == "pss", {*content},
                                 tree.property(child, "value"));
            out.text = out.outcome == Outcome::Holds     ? std::string{}
                       : out.outcome == Outcome::Unknown ? std::string("its kind is not verified here")
                                                         : std::string("its signature does not match its content");
            if (out.outcome == Outcome::Holds) return out;
        }
        return out;
    });
}

}  // namespace herberge
