#include "duty/load_table.hpp"

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>
#include <sstream>

#include "base/error.hpp"
#include "base/quantity.hpp"
#include "duty/duty_edit.hpp"
#include "duty/load_kind.hpp"

namespace escultura::duty {
namespace {

std::string trimmed(const std::string& s) {
    const auto a = s.find_first_not_of(" \t\r\""), b = s.find_last_not_of(" \t\r\"");
    return a == std::string::npos ? std::string() : s.substr(a, b - a + 1);
}

std::vector<std::string> split(const std::string& line, char delimiter) {
    std::vector<std::string> fields;
    std::string field;
    bool quoted = false;
    for (const char c : line) {
        if (c == '"') quoted = !quoted;
        if (c == delimiter && !quoted) {
            fields.push_back(trimmed(field));
            field.clear();
        } else {
            field += c;
        }
    }
    fields.push_back(trimmed(field));
    return fields;
}

/// Figures of the kinds that tables hold, each heading once.
std::vector<Figure<Load>> tableFigures() {
    std::vector<Figure<Load>> figures;
    for (const LoadKind& k : loadKinds())
        for (const Figure<Load>& f : k.figures)
            if (k.inTables && *f.column && std::none_of(figures.begin(), figures.end(), [&](const auto& known) {
                    return std::string(known.column) == f.column;
                }))
                figures.push_back(f);
    return figures;
}

/// Headings of a figure: one, or one a component.
std::vector<std::string> headingsOf(const Figure<Load>& f) {
    if (!f.isVector()) return {f.column};
    return {f.column + std::string("x"), f.column + std::string("y"), f.column + std::string("z")};
}

bool hasColumn(const LoadKind& kind, const Figure<Load>& figure) {
    return std::any_of(kind.figures.begin(), kind.figures.end(),
                       [&](const auto& f) { return std::string(f.column) == figure.column; });
}

std::string inWords(const Load& l) {
    return words(l.kind) + " on " + listed(l.on.interfaces) + " (" + l.on.face + "): " + describe(l);
}

}  // namespace

LoadTable readLoadTable(const std::string& text, const std::string& file, const Part& part) {
    std::istringstream in(text);
    std::string line;
    int number = 0;
    auto refuse = [&](const std::string& column, const std::string& expected, const std::string& found) {
        throw InputError(ErrorDetail{"The table of loads cannot be used.", file,
                                     "line " + std::to_string(number) + (column.empty() ? "" : ", column " + column),
                                     expected, found});
    };
    while (std::getline(in, line) && (++number, trimmed(line).empty() || line[0] == '#')) {
    }
    if (line.compare(0, 3, "\xEF\xBB\xBF") == 0) line.erase(0, 3);
    char delimiter = ',';
    for (const char d : {';', '\t'})
        if (line.find(d) != std::string::npos) delimiter = d;
    struct Column {
        std::string unit;
        std::size_t at;
    };
    std::map<std::string, Column> columns;
    const std::vector<Figure<Load>> figures = tableFigures();
    std::map<std::string, const Figure<Load>*> known = {{"case", nullptr}, {"kind", nullptr},  {"interfaces", nullptr},
                                                        {"face", nullptr}, {"share", nullptr}, {"frame", nullptr}};
    for (const Figure<Load>& f : figures)
        for (const std::string& heading : headingsOf(f)) known[heading] = &f;
    const auto heads = split(line, delimiter);
    for (std::size_t k = 0; k < heads.size(); ++k) {
        const auto open = heads[k].find('[');
        std::string key = trimmed(heads[k].substr(0, open));
        std::transform(key.begin(), key.end(), key.begin(), [](unsigned char c) { return std::tolower(c); });
        if (key.empty()) continue;
        const auto found = known.find(key);
        if (found == known.end()) {
            std::string all;
            for (const auto& [name, unused] : known) all += (all.empty() ? "" : ", ") + name;
            refuse(std::to_string(k + 1), "one of the headings: " + all, "'" + key + "'");
        }
        const Figure<Load>* figure = found->second;
        std::string unit = figure ? figure->fileUnit(part.units) : "";
        if (open != std::string::npos) {
            const auto close = heads[k].find(']', open);
            unit = trimmed(heads[k].substr(open + 1, close - open - 1));
            try {
                parseQuantity("1 " + unit, figure ? figure->dimension : dimension::none, unit);
            } catch (const InputError&) {
                refuse("'" + key + "'", std::string("a unit of ") + (figure ? figure->key : "nothing"),
                       "'" + unit + "'");
            }
        }
        if (columns.count(key)) refuse("'" + key + "'", "every heading once", "it twice");
        columns[key] = {unit, k};
    }
    for (const char* needed : {"case", "interfaces", "face"})
        if (!columns.count(needed)) refuse("", std::string("a heading '") + needed + "'", "none");

    LoadTable table;
    while (std::getline(in, line)) {
        ++number;
        if (trimmed(line).empty() || line[0] == '#') continue;
        const auto fields = split(line, delimiter);
        auto value = [&](const std::string& key) {
            const auto c = columns.find(key);
            return c == columns.end() || c->second.at >= fields.size() ? std::string() : fields[c->second.at];
        };
        auto quantity = [&](const std::string& key, Dimension wanted) {
            std::string v = value(key);
            if (v.empty()) return 0.0;
            if (delimiter != ',') std::replace(v.begin(), v.end(), ',', '.');
            try {
                return parseQuantity(v, wanted, columns.at(key).unit);
            } catch (const InputError& e) {
                refuse("'" + key + "'", e.detail().expected.empty() ? "a number" : e.detail().expected, "'" + v + "'");
            }
            return 0.0;
        };
        Load l;
        const std::string loadCase = value("case");
        if (loadCase.empty()) refuse("'case'", "the name of a load case", "nothing");
        const std::string word = value("kind").empty() ? "force" : value("kind");
        const LoadKind* kind = nullptr;
        std::vector<std::string> words;
        for (const LoadKind& k : loadKinds()) {
            if (k.inTables) words.push_back(k.key);
            if (k.inTables && word == k.key) kind = &k;
        }
        if (!kind) refuse("'kind'", "one of: " + listed(words), "'" + word + "'");
        l.kind = kind->kind;
        std::stringstream names(value("interfaces"));
        for (std::string name; std::getline(names, name, '+');) {
            name = trimmed(name);
            if (!part.findInterface(name)) {
                std::vector<std::string> all;
                for (const Interface& i : part.interfaces) all.push_back(i.name);
                refuse("'interfaces'", "interfaces of the part, with + between: " + listed(all), "'" + name + "'");
            }
            l.on.interfaces.push_back(name);
        }
        if (l.on.interfaces.empty()) refuse("'interfaces'", "at least one interface", "nothing");
        l.on.face = value("face");
        l.frame = value("frame") == "global" ? "" : value("frame");
        if (!l.frame.empty() && !part.findFrame(l.frame)) refuse("'frame'", "a frame of the part", "'" + l.frame + "'");
        double size = 0;
        for (const Figure<Load>& f : figures) {
            Vec3 v = Vec3::Zero();
            const auto headings = headingsOf(f);
            for (std::size_t c = 0; c < headings.size(); ++c)
                v[static_cast<int>(c)] = quantity(headings[c], f.dimension);
            if (v.norm() > 0 && !hasColumn(*kind, f))
                refuse("'" + headings.front() + "'", std::string("nothing: a load of kind ") + kind->key + " has none",
                       "a value");
            if (hasColumn(*kind, f)) setValue(f, l, v);
            size += v.norm();
        }
        if (!(size > 0)) refuse("", "a load that is not zero", "zero or nothing");
        const std::string share = value("share");
        if (!share.empty() && share != "total" && share != "each")
            refuse("'share'", "total or each", "'" + share + "'");
        l.sharedTotal = share != "each";
        auto at =
            std::find_if(table.cases.begin(), table.cases.end(), [&](const auto& c) { return c.name == loadCase; });
        if (at == table.cases.end()) {
            table.cases.push_back({loadCase, {}, LoadCase::Use::check, 1});
            at = table.cases.end() - 1;
        }
        at->loads.push_back(l);
    }
    if (table.cases.empty()) refuse("", "at least one line of loads", "none");
    // the whole part file must still be right with these loads: faces, frames, kinds
    parsePart(withLoadTable(part, table), part.path);
    for (const LoadCase& c : table.cases) {
        LoadTableChange change;
        change.loadCase = c.name;
        for (const Load& l : c.loads) change.after.push_back(inWords(l));
        change.kind = LoadTableChange::Kind::newCase;
        for (const LoadCase& old : part.loadCases)
            if (old.name == c.name) {
                for (const Load& l : old.loads)
                    if (loadKind(l.kind).inTables) change.before.push_back(inWords(l));
                change.kind =
                    change.before == change.after ? LoadTableChange::Kind::unchanged : LoadTableChange::Kind::changed;
            }
        table.changes.push_back(change);
    }
    for (const LoadCase& old : part.loadCases)
        if (std::none_of(table.cases.begin(), table.cases.end(), [&](const auto& c) { return c.name == old.name; }))
            table.untouched.push_back(old.name);
    return table;
}

std::string withLoadTable(const Part& part, const LoadTable& table) {
    Part changed = part;
    for (const LoadCase& c : table.cases) {
        const auto old =
            std::find_if(part.loadCases.begin(), part.loadCases.end(), [&](const auto& o) { return o.name == c.name; });
        if (old == part.loadCases.end()) {
            changed.text = withCase(changed, "", c);
            continue;
        }
        for (int k = static_cast<int>(old->loads.size()) - 1; k >= 0; --k)
            if (loadKind(old->loads[k].kind).inTables) changed.text = withoutLoad(changed, c.name, k);
        for (const Load& l : c.loads) changed.text = withLoad(changed, c.name, -1, l);
    }
    return changed.text;
}

}  // namespace escultura::duty
