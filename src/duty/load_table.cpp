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

/// Reads a table line by line; every refusal names the line and the column.
class TableReader {
  public:
    TableReader(const std::string& text, const std::string& file, const Part& part)
        : in_(text), file_(file), part_(part), figures_(tableFigures()) {}

    /// The load cases of the table, in the order of their first lines.
    std::vector<LoadCase> read() {
        readHeadings();
        std::vector<LoadCase> cases;
        for (std::string line; std::getline(in_, line);) {
            ++number_;
            if (trimmed(line).empty() || line[0] == '#') continue;
            fields_ = split(line, delimiter_);
            std::string loadCase;
            const Load l = readLoad(loadCase);
            auto at = std::find_if(cases.begin(), cases.end(), [&](const auto& c) { return c.name == loadCase; });
            if (at == cases.end()) {
                cases.emplace_back();
                cases.back().name = loadCase;
                at = cases.end() - 1;
            }
            at->loads.push_back(l);
        }
        if (cases.empty()) refuse("", "at least one line of loads", "none");
        return cases;
    }

  private:
    [[noreturn]] void refuse(const std::string& column, const std::string& expected, const std::string& found) const {
        throw InputError(ErrorDetail{"The table of loads cannot be used.", file_,
                                     "line " + std::to_string(number_) + (column.empty() ? "" : ", column " + column),
                                     expected, found});
    }
    void readHeadings();
    std::string value(const std::string& key) const {
        const auto c = columns_.find(key);
        return c == columns_.end() || c->second.at >= fields_.size() ? std::string() : fields_[c->second.at];
    }
    double quantity(const std::string& key, Dimension wanted) const {
        std::string v = value(key);
        if (v.empty()) return 0.0;
        if (delimiter_ != ',') std::replace(v.begin(), v.end(), ',', '.');
        try {
            return parseQuantity(v, wanted, columns_.at(key).unit);
        } catch (const InputError& e) {
            refuse("'" + key + "'", e.detail().expected.empty() ? "a number" : e.detail().expected, "'" + v + "'");
        }
    }
    Load readLoad(std::string& loadCase) const;
    const LoadKind& kindOf() const;
    void readInterfaces(Load& l) const;
    void readFigures(const LoadKind& kind, Load& l) const;

    struct Column {
        std::string unit;
        std::size_t at;
    };
    std::istringstream in_;
    std::string file_;
    const Part& part_;
    const std::vector<Figure<Load>> figures_;
    int number_ = 0;  // of the line
    char delimiter_ = ',';
    std::map<std::string, Column> columns_;
    std::vector<std::string> fields_;
};

void TableReader::readHeadings() {
    std::string line;
    while (std::getline(in_, line) && (++number_, trimmed(line).empty() || line[0] == '#')) {
    }
    if (line.compare(0, 3, "\xEF\xBB\xBF") == 0) line.erase(0, 3);
    for (const char d : {';', '\t'})
        if (line.find(d) != std::string::npos) delimiter_ = d;
    std::map<std::string, const Figure<Load>*> known = {{"case", nullptr}, {"kind", nullptr},  {"interfaces", nullptr},
                                                        {"face", nullptr}, {"share", nullptr}, {"frame", nullptr}};
    for (const Figure<Load>& f : figures_)
        for (const std::string& heading : headingsOf(f)) known[heading] = &f;
    const auto heads = split(line, delimiter_);
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
        std::string unit = figure ? figure->fileUnit(part_.units) : "";
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
        if (columns_.count(key)) refuse("'" + key + "'", "every heading once", "it twice");
        columns_[key] = {unit, k};
    }
    for (const char* needed : {"case", "interfaces", "face"})
        if (!columns_.count(needed)) refuse("", std::string("a heading '") + needed + "'", "none");
}

const LoadKind& TableReader::kindOf() const {
    const std::string word = value("kind").empty() ? "force" : value("kind");
    const LoadKind* kind = nullptr;
    std::vector<std::string> words;
    for (const LoadKind& k : loadKinds()) {
        if (k.inTables) words.push_back(k.key);
        if (k.inTables && word == k.key) kind = &k;
    }
    if (!kind) refuse("'kind'", "one of: " + listed(words), "'" + word + "'");
    return *kind;
}

void TableReader::readInterfaces(Load& l) const {
    std::stringstream names(value("interfaces"));
    for (std::string name; std::getline(names, name, '+');) {
        name = trimmed(name);
        if (!part_.findInterface(name)) {
            std::vector<std::string> all;
            for (const Interface& i : part_.interfaces) all.push_back(i.name);
            refuse("'interfaces'", "interfaces of the part, with + between: " + listed(all), "'" + name + "'");
        }
        l.on.interfaces.push_back(name);
    }
    if (l.on.interfaces.empty()) refuse("'interfaces'", "at least one interface", "nothing");
}

void TableReader::readFigures(const LoadKind& kind, Load& l) const {
    double size = 0;
    for (const Figure<Load>& f : figures_) {
        Vec3 v = Vec3::Zero();
        const auto headings = headingsOf(f);
        for (std::size_t c = 0; c < headings.size(); ++c) v[static_cast<int>(c)] = quantity(headings[c], f.dimension);
        if (v.norm() > 0 && !hasColumn(kind, f))
            refuse("'" + headings.front() + "'", std::string("nothing: a load of kind ") + kind.key + " has none",
                   "a value");
        if (hasColumn(kind, f)) setValue(f, l, v);
        size += v.norm();
    }
    if (!(size > 0)) refuse("", "a load that is not zero", "zero or nothing");
}

Load TableReader::readLoad(std::string& loadCase) const {
    Load l;
    loadCase = value("case");
    if (loadCase.empty()) refuse("'case'", "the name of a load case", "nothing");
    const LoadKind& kind = kindOf();
    l.kind = kind.kind;
    readInterfaces(l);
    l.on.face = value("face");
    l.frame = value("frame") == "global" ? "" : value("frame");
    if (!l.frame.empty() && !part_.findFrame(l.frame)) refuse("'frame'", "a frame of the part", "'" + l.frame + "'");
    readFigures(kind, l);
    const std::string share = value("share");
    if (!share.empty() && share != "total" && share != "each") refuse("'share'", "total or each", "'" + share + "'");
    l.sharedTotal = share != "each";
    return l;
}

}  // namespace

LoadTable readLoadTable(const std::string& text, const std::string& file, const Part& part) {
    LoadTable table;
    table.cases = TableReader(text, file, part).read();
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
