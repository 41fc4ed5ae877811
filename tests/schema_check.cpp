// SPDX-License-Identifier: MIT
#include "schema_check.hpp"

#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <stdexcept>
#if defined(__GNUC__)
#    pragma GCC diagnostic push
#    pragma GCC diagnostic ignored "-Wconversion"
#    pragma GCC diagnostic ignored "-Wold-style-cast"
#    pragma GCC diagnostic ignored "-Wshadow"
#endif
#include <valijson/adapters/nlohmann_json_adapter.hpp>
#include <valijson/schema.hpp>
#include <valijson/schema_parser.hpp>
#include <valijson/validation_results.hpp>
#include <valijson/validator.hpp>
#if defined(__GNUC__)
#    pragma GCC diagnostic pop
#endif

namespace support {

namespace {

using nlohmann::json;

/// An object has the properties that are described, and no others; a condition without a type is no description.
void close(json& schema) {
    if (schema.is_object() && schema.contains("properties") && schema.contains("type") &&
        schema["properties"].is_object())
        schema["additionalProperties"] = false;
    for (auto& part : schema)
        if (part.is_structured()) close(part);
}

json read(const std::string& name) {
    const std::string path = name.find('/') == std::string::npos ? SOURCE_DIR "/docs/schema/" + name : name;
    std::ifstream file(path);
    if (!file) throw std::runtime_error("there is no schema " + path);
    json out = json::parse(file);
    close(out);
    return out;
}

}  // namespace

std::string schema_problem(std::string_view document, std::string_view schema) {
    const json value = json::parse(document, nullptr, false);
    if (value.is_discarded()) return "this is no JSON";
    std::string name(schema);
    if (name.empty()) {
        const auto told = value.value("schema", std::string{});  // "herberge/check/1"
        const auto kind = told.find('/');
        const auto version = told.rfind('/');
        if (kind == std::string::npos || kind == version) return "it names no schema: " + told;
        name = told.substr(kind + 1, version - kind - 1) + "-" + told.substr(version + 1) + ".schema.json";
    }
    using valijson::adapters::NlohmannJsonAdapter;
    valijson::Schema parsed;
    valijson::SchemaParser parser;
    const json text = read(name);
    parser.populateSchema(
        NlohmannJsonAdapter(text), parsed, [](const std::string& uri) -> const json* { return new json(read(uri)); },
        [](const json* used) { delete used; });
    valijson::Validator validator;
    valijson::ValidationResults results;
    if (validator.validate(parsed, NlohmannJsonAdapter(value), &results)) return {};
    std::string out;
    for (valijson::ValidationResults::Error error; results.popError(error);) {
        for (const auto& step : error.context) out += step;
        out += ": " + error.description + "\n";
    }
    return out;
}

}  // namespace support
