#include "base/text.h"
#include "hand_on/notation.h"
#include "hand_on/writers.h"

#include <cmath>

namespace oxgoad {

namespace {

using Op = ScoreNode::Op;

/// Within quotes; bytes that are not plain by number, so that no text can be code.
std::string quotedBytes(const std::string& text, bool octal) {
    static const char* const digits = "0123456789abcdef";
    std::string out = "\"";
    for (const char c : text) {
        const auto u = static_cast<unsigned char>(c);
        if (u >= 0x20 && u < 0x7f && c != '"' && c != '\\' && c != '?') {
            out += c;
        } else if (octal) {
            out += '\\';
            for (const int shift : {6, 3, 0})
                out += static_cast<char>('0' + (u >> shift & 7));
        } else {
            out += "\\x";
            out += digits[u >> 4];
            out += digits[u & 15];
        }
    }
    return out + "\"";
}

std::string withPoint(double value) {
    std::string text = exactText(value);
    if (text.find_first_of(".eEni") == std::string::npos) text += ".0";
    return value < 0 ? "(" + text + ")" : text;
}

Notation pythonNotation() {
    Notation in;
    in.number = withPoint;
    in.text = [](const std::string& text) {
        return "b" + quotedBytes(text, false) + ".decode(\"utf-8\", \"replace\")";
    };
    in.missing = "NAN";
    in.source = [](std::size_t k) { return "c" + std::to_string(k); };
    in.variable = [](std::size_t k) { return "v" + std::to_string(k); };
    in.equal = "==", in.unequal = "!=", in.both = "and", in.either = "or";
    in.choose = [](const auto& holds, const auto& yes, const auto& no) {
        return "(" + yes + " if " + holds + " else " + no + ")";
    };
    in.lacksText = [](const auto& a) { return "(" + a + " == \"\")"; };
    in.lacksNumber = [](const auto& a) { return "isnan(" + a + ")"; };
    in.power = "power", in.ln = "ln", in.log10 = "lg", in.exp = "exp", in.root = "root", in.absolute = "abs",
    in.floor = "floor", in.sine = "sine", in.cosine = "cosine", in.least = "least", in.most = "most";
    // What is not a number differs from every number, and must not here.
    in.own = [](const ScoreNode& node, const std::vector<std::string>& of) -> std::optional<std::string> {
        if (node.op != Op::unequal) return std::nullopt;
        return "((" + of[0] + " < " + of[1] + ") or (" + of[0] + " > " + of[1] + "))";
    };
    return in;
}

Notation cNotation() {
    Notation in = pythonNotation();
    in.text = [](const std::string& text) { return quotedBytes(text, true); };
    in.missing = "(0.0 / zero)";
    in.both = "&&", in.either = "||";
    in.choose = [](const auto& holds, const auto& yes, const auto& no) {
        return "(" + holds + " ? " + yes + " : " + no + ")";
    };
    in.lacksText = [](const auto& a) { return "(*" + a + " == 0)"; };
    in.power = "pow", in.ln = "log", in.log10 = "log10", in.root = "sqrt", in.absolute = "fabs",
    in.sine = "sin", in.cosine = "cos";
    in.own = [](const ScoreNode& node, const std::vector<std::string>& of) -> std::optional<std::string> {
        switch (node.op) {
        case Op::unequal:
            return "((" + of[0] + " < " + of[1] + ") || (" + of[0] + " > " + of[1] + "))";
        case Op::same:
            return "(strcmp(" + of[0] + ", " + of[1] + ") == 0)";
        case Op::other:
            return "(strcmp(" + of[0] + ", " + of[1] + ") != 0)";
        case Op::join: {
            std::string out = of[0];
            for (std::size_t i = 1; i < of.size(); ++i)
                out = "joined(&room, " + out + ", " + of[i] + ")";
            return out;
        }
        default:
            return std::nullopt;
        }
    };
    return in;
}

const char* kindWord(Program::Kind kind) {
    return kind == Program::Kind::number ? "number" : kind == Program::Kind::date ? "date" : "text";
}

constexpr const char* pythonHead = R"(import csv, io, math, sys

NAN = float("nan")
isnan = math.isnan


def guarded(f, *x):
    try:
        return NAN if any(map(isnan, x)) else f(*x)
    except (ValueError, OverflowError, ZeroDivisionError):
        return NAN


def ln(x): return guarded(math.log, x)
def lg(x): return guarded(math.log10, x)
def exp(x): return guarded(math.exp, x)
def root(x): return guarded(math.sqrt, x)
def floor(x): return guarded(lambda a: float(math.floor(a)), x)
def sine(x): return guarded(math.sin, x)
def cosine(x): return guarded(math.cos, x)
def power(x, y): return guarded(math.pow, x, y)
def least(x, y): return guarded(min, x, y)
def most(x, y): return guarded(max, x, y)


def day(text):
    """Days since 1970-01-01 of 2024-05-01 or 01.05.2024."""
    import datetime
    parts = text.strip().split("T")[0].split(" ")[0]
    try:
        if "." in parts:
            d, m, y = parts.split(".")
        else:
            y, m, d = parts.split("-")
        return float(datetime.date(int(y), int(m), int(d)).toordinal() - 719163)
    except ValueError:
        return NAN


def number(text, comma=False):
    text = text.strip()
    if comma:
        text = text.replace(".", "").replace(",", ".")
    try:
        value = float(text) if "_" not in text else NAN
        return value if math.isfinite(value) else NAN
    except ValueError:
        return NAN
)";

constexpr const char* pythonTail = R"(

def read(cell, kind, comma=False):
    if kind == "text":
        return cell.strip()
    return day(cell) if kind == "date" else number(cell, comma)


def self_test():
    for values, expected in TESTS:
        for said, wanted in zip(score(*values), expected):
            if isnan(said) != isnan(wanted) or abs(said - wanted) > 1e-9 * max(1.0, abs(wanted)):
                sys.stderr.write("a row gives %r where %r is right\n" % (said, wanted))
                return 1
    return 0


def main(arguments):
    if not arguments:
        return self_test()
    with open(arguments[0], "r", encoding="utf-8-sig", errors="replace", newline="") as file:
        text = file.read()
    head = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=head.count)
    comma = delimiter != ","
    rows = csv.reader(io.StringIO(text), delimiter=delimiter)
    out = csv.writer(sys.stdout, delimiter=delimiter, lineterminator="\n")
    names = next(rows, None)
    if names is None:
        sys.stderr.write("the file is empty\n")
        return 2
    places = []
    for name, kind in COLUMNS:
        if name not in names:
            sys.stderr.write("there is no column %r\n" % name)
            return 2
        places.append((names.index(name), kind))
    out.writerow(names + ["prediction", "lower", "upper"])
    for row in rows:
        if not row:
            continue
        values = [read(row[at] if at < len(row) else "", kind, comma and "," in (row[at] if at < len(row) else ""))
                  for at, kind in places]
        out.writerow(row + ["" if isnan(value) else repr(value) for value in score(*values)])
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
)";

constexpr const char* cHead = R"(#include <ctype.h>
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static volatile double zero = 0;
struct room { char *text[64]; int used; };

static const char *joined(struct room *room, const char *a, const char *b) {
    size_t n = strlen(a), m = strlen(b);
    char *text = room->used < 64 ? malloc(n + m + 1) : NULL;
    if (text == NULL) return "";
    memcpy(text, a, n);
    memcpy(text + n, b, m + 1);
    return room->text[room->used++] = text;
}

static double least(double a, double b) { return isnan(a) || isnan(b) ? 0.0 / zero : a < b ? a : b; }
static double most(double a, double b) { return isnan(a) || isnan(b) ? 0.0 / zero : a > b ? a : b; }

/* Days since 1970-01-01. */
static double dayOf(long y, long m, long d) {
    if (m < 1 || m > 12 || d < 1 || d > 31) return 0.0 / zero;
    return (double)((1461 * (y + 4800 + (m - 14) / 12)) / 4 + (367 * (m - 2 - 12 * ((m - 14) / 12))) / 12 -
                    (3 * ((y + 4900 + (m - 14) / 12) / 100)) / 4 + d - 32075 - 2440588);
}

static double readDay(const char *cell) {
    long a, b, c;
    if (sscanf(cell, "%ld-%ld-%ld", &a, &b, &c) == 3) return dayOf(a, b, c);
    if (sscanf(cell, "%ld.%ld.%ld", &a, &b, &c) == 3) return dayOf(c, b, a);
    return 0.0 / zero;
}

static double readNumber(const char *cell, int comma) {
    char plain[400], *end;
    size_t n = 0;
    double value;
    int decimal = comma && strchr(cell, ',') != NULL;
    for (; *cell != 0 && n + 1 < sizeof plain; ++cell) {
        if (isspace((unsigned char)*cell)) continue;
        if (decimal && *cell == '.') continue;
        plain[n++] = decimal && *cell == ',' ? '.' : *cell;
    }
    plain[n] = 0;
    value = strtod(plain, &end);
    return n == 0 || *end != 0 || !isfinite(value) || strpbrk(plain, "xXnN") ? 0.0 / zero : value;
}
)";

constexpr const char* cTail = R"(
/* One line of fields, quotes taken off; 0 at the end of the file. */
struct line { char **field; size_t fields, room; };

static void addByte(char **text, size_t *n, size_t *room, int c) {
    if (*n + 1 >= *room) {
        char *more = realloc(*text, *room = *room * 2 + 64);
        if (more == NULL) exit(2);
        *text = more;
    }
    (*text)[(*n)++] = (char)c;
    (*text)[*n] = 0;
}

static int readLine(FILE *file, int delimiter, struct line *line) {
    int c, quoted = 0, any = 0;
    char *text = NULL;
    size_t n = 0, room = 0, i;
    for (i = 0; i < line->fields; ++i) free(line->field[i]);
    line->fields = 0;
    for (;;) {
        c = getc(file);
        if (c == EOF && !any) return 0;
        any = 1;
        if (quoted && c == '"') {
            int next = getc(file);
            if (next == '"') { addByte(&text, &n, &room, '"'); continue; }
            ungetc(next, file);
            quoted = 0;
            continue;
        }
        if (!quoted && c == '"' && n == 0) { quoted = 1; continue; }
        if (c == EOF || (!quoted && (c == delimiter || c == '\n'))) {
            addByte(&text, &n, &room, 0);
            n = strlen(text);
            if (c != delimiter && n > 0 && text[n - 1] == '\r') text[n - 1] = 0;
            if (line->fields == line->room) {
                char **more = realloc(line->field, (line->room = line->room * 2 + 16) * sizeof *more);
                if (more == NULL) exit(2);
                line->field = more;
            }
            line->field[line->fields++] = text;
            text = NULL;
            n = room = 0;
            if (c != delimiter) return 1;
            continue;
        }
        addByte(&text, &n, &room, c);
    }
}

static void writeField(const char *text, int delimiter) {
    const char *c;
    if (strpbrk(text, "\"\r\n") == NULL && strchr(text, delimiter) == NULL) {
        fputs(text, stdout);
        return;
    }
    putchar('"');
    for (c = text; *c != 0; ++c) {
        if (*c == '"') putchar('"');
        putchar(*c);
    }
    putchar('"');
}

static int near(double said, double wanted) {
    if (isnan(wanted)) return isnan(said);
    return fabs(said - wanted) <= 1e-9 * (fabs(wanted) > 1 ? fabs(wanted) : 1);
}

static char *trimmed(char *text) {
    size_t n;
    while (isspace((unsigned char)*text)) ++text;
    for (n = strlen(text); n > 0 && isspace((unsigned char)text[n - 1]);) text[--n] = 0;
    return text;
}

int main(int count, char **argument) {
    size_t i, k, place[COLUMNS + 1];
    struct line line = {0};
    FILE *file;
    int c, delimiter = ',', best = -1, counts[3] = {0};
    static const char delimiters[] = ",;\t";
    (void)joined;
    (void)least;
    (void)most;
    if (count < 2) {
        for (i = 0; i < TESTS; ++i) {
            double said[3];
            score(tests[i].number, tests[i].text, said);
            for (k = 0; k < 3; ++k)
                if (!near(said[k], tests[i].wanted[k])) {
                    fprintf(stderr, "row %lu gives %.17g where %.17g is right\n", (unsigned long)i + 1, said[k],
                            tests[i].wanted[k]);
                    return 1;
                }
        }
        return 0;
    }
    file = fopen(argument[1], "rb");
    if (file == NULL) { perror(argument[1]); return 2; }
    if (getc(file) != 0xef || getc(file) != 0xbb || getc(file) != 0xbf) rewind(file);
    {
        long begin = ftell(file);
        while ((c = getc(file)) != EOF && c != '\n')
            for (k = 0; k < 3; ++k) counts[k] += c == delimiters[k];
        for (k = 0; k < 3; ++k)
            if (counts[k] > best) { best = counts[k]; delimiter = delimiters[k]; }
        fseek(file, begin, SEEK_SET);
    }
    if (!readLine(file, delimiter, &line)) { fputs("the file is empty\n", stderr); return 2; }
    for (k = 0; k < COLUMNS; ++k) {
        for (i = 0; i < line.fields && strcmp(line.field[i], columns[k].name) != 0; ++i) {}
        if (i == line.fields) { fprintf(stderr, "there is no column %s\n", columns[k].name); return 2; }
        place[k] = i;
    }
    for (i = 0; i < line.fields; ++i) { writeField(line.field[i], delimiter); putchar(delimiter); }
    printf("prediction%clower%cupper\n", delimiter, delimiter);
    while (readLine(file, delimiter, &line)) {
        double number[COLUMNS + 1], said[3];
        const char *text[COLUMNS + 1];
        char *copies[COLUMNS + 1];
        if (line.fields == 1 && *line.field[0] == 0) continue;
        for (k = 0; k < COLUMNS; ++k) {
            const char *cell = place[k] < line.fields ? line.field[place[k]] : "";
            copies[k] = malloc(strlen(cell) + 1);
            if (copies[k] == NULL) return 2;
            text[k] = trimmed(strcpy(copies[k], cell));
            number[k] = columns[k].kind == 't' ? 0.0 / zero
                        : columns[k].kind == 'd' ? readDay(text[k])
                                                 : readNumber(text[k], delimiter != ',');
        }
        score(number, text, said);
        for (k = 0; k < COLUMNS; ++k) free(copies[k]);
        for (i = 0; i < line.fields; ++i) { writeField(line.field[i], delimiter); putchar(delimiter); }
        for (k = 0; k < 3; ++k) {
            if (!isnan(said[k])) printf("%.17g", said[k]);
            putchar(k < 2 ? delimiter : '\n');
        }
    }
    fclose(file);
    return ferror(stdout) || fflush(stdout) != 0 ? 2 : 0;
}
)";

} // namespace

TestRows testRowsOf(const Program& program, std::vector<ProgramRow> rows) {
    TestRows tests{std::move(rows), {}};
    for (const ProgramRow& row : tests.rows)
        tests.results.push_back(runProgram(program, row));
    return tests;
}

std::string pythonOf(const Program& program, const TestRows& tests) {
    const Notation in = pythonNotation();
    std::string out =
        "#!/usr/bin/env python3\n# " + plainWords(program.response) + " by " + plainWords(program.sentence) +
        ", handed on by Oxgoad.\n# python3 THIS.py FILE.csv writes the rows with prediction, lower and "
        "upper; without a file it tests itself.\n";
    if (!program.noIntervals.empty()) out += "# No intervals: " + plainWords(program.noIntervals) + ".\n";
    out += pythonHead;
    out += "\n\nCOLUMNS = [";
    for (const Program::Source& source : program.sources)
        out += "\n    (" + in.text(source.name) + ", \"" + kindWord(source.kind) + "\"),";
    out += "\n]\n\n\ndef score(";
    for (std::size_t k = 0; k < program.sources.size(); ++k)
        out += (k > 0 ? ", c" : "c") + std::to_string(k);
    out += "):\n    \"\"\"Prediction, lower and upper; NaN where there is none.\"\"\"\n";
    for (std::size_t k = 0; k < program.steps.size(); ++k)
        out += "    v" + std::to_string(k) + " = " + writtenIn(in, *program.steps[k].value) + "  # " +
               plainWords(program.steps[k].says) + "\n";
    const auto output = [&](const Said& said) {
        return program.noIntervals.empty() ? writtenIn(in, *said) : std::string("NAN");
    };
    out += "    return " + writtenIn(in, *program.prediction) + ", " + output(program.lower) + ", " +
           output(program.upper) + "\n\n\nTESTS = [";
    const auto value = [&](double x) { return std::isnan(x) ? std::string("NAN") : withPoint(x); };
    for (std::size_t i = 0; i < tests.rows.size(); ++i) {
        out += "\n    ((";
        for (std::size_t k = 0; k < program.sources.size(); ++k)
            out += (program.sources[k].kind == Program::Kind::text ? in.text(tests.rows[i].texts[k])
                                                                   : value(tests.rows[i].numbers[k])) +
                   ", ";
        const ProgramResult& wanted = tests.results[i];
        out += "), (" + value(wanted.prediction) + ", " + value(wanted.lower) + ", " + value(wanted.upper) +
               ")),";
    }
    return out + "\n]\n" + pythonTail;
}

std::string cOf(const Program& program, const TestRows& tests) {
    const Notation in = cNotation();
    std::string out =
        "/* " + plainWords(program.response) + " by " + plainWords(program.sentence) +
        ", handed on by Oxgoad.\n   cc -O2 model.c -o model -lm\n   ./model FILE.csv writes the rows with "
        "prediction, lower and upper; without a file it tests itself. */\n";
    if (!program.noIntervals.empty()) out += "/* No intervals: " + plainWords(program.noIntervals) + ". */\n";
    out += cHead;
    const std::string columns = std::to_string(program.sources.size());
    out += "\n#define COLUMNS " + columns + "\n#define TESTS " + std::to_string(tests.rows.size()) +
           "\nstatic const struct { const char *name; char kind; } columns[COLUMNS + 1] = {";
    for (const Program::Source& source : program.sources)
        out += "\n    {" + in.text(source.name) + ", '" + kindWord(source.kind)[0] + "'},";
    out += "\n    {\"\", 0}};\n\nvoid score(const double *number, const char *const *text, double *said) {\n"
           "    struct room room = {{0}, 0};\n";
    for (std::size_t k = 0; k < program.sources.size(); ++k)
        out += program.sources[k].kind == Program::Kind::text
                   ? "    const char *c" + std::to_string(k) + " = text[" + std::to_string(k) + "];\n"
                   : "    const double c" + std::to_string(k) + " = number[" + std::to_string(k) + "];\n";
    for (std::size_t k = 0; k < program.steps.size(); ++k)
        out += std::string(program.steps[k].value->isText ? "    const char *v" : "    const double v") +
               std::to_string(k) + " = " + writtenIn(in, *program.steps[k].value) + "; /* " +
               plainWords(program.steps[k].says) + " */\n";
    for (std::size_t k = 0; k < program.sources.size(); ++k) // what only reach asks for
        out += "    (void)c" + std::to_string(k) + ";\n";
    for (std::size_t k = 0; k < program.steps.size(); ++k)
        out += "    (void)v" + std::to_string(k) + ";\n";
    const auto output = [&](const Said& said) {
        return program.noIntervals.empty() ? writtenIn(in, *said) : in.missing;
    };
    out +=
        "    said[0] = " + writtenIn(in, *program.prediction) + ";\n    said[1] = " + output(program.lower) +
        ";\n    said[2] = " + output(program.upper) +
        ";\n    while (room.used > 0) free(room.text[--room.used]);\n    (void)number;\n    (void)text;\n}\n";
    const auto value = [](double x) { return std::isnan(x) ? std::string("NAN") : withPoint(x); };
    out += "\nstatic const struct { double number[COLUMNS + 1]; const char *text[COLUMNS + 1]; double "
           "wanted[3]; } "
           "tests[TESTS + 1] = {";
    for (std::size_t i = 0; i < tests.rows.size(); ++i) {
        std::string numbers, texts;
        for (std::size_t k = 0; k < program.sources.size(); ++k) {
            const bool isText = program.sources[k].kind == Program::Kind::text;
            numbers += (isText ? "0" : value(tests.rows[i].numbers[k])) + ", ";
            texts += (isText ? in.text(tests.rows[i].texts[k]) : "\"\"") + ", ";
        }
        const ProgramResult& wanted = tests.results[i];
        out += "\n    {{" + numbers + "0}, {" + texts + "\"\"}, {" + value(wanted.prediction) + ", " +
               value(wanted.lower) + ", " + value(wanted.upper) + "}},";
    }
    return out + "\n    {{0}, {\"\"}, {0}}};\n" + cTail;
}

} // namespace oxgoad
