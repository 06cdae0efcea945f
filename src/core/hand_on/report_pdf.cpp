// Pages of A4: text that is broken where it has to be, tables, and points.
#include "base/error.h"
#include "base/text.h"
#include "hand_on/report.h"

#include <cairo-pdf.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <memory>
#include <utility>

namespace oxgoad {

namespace {

using Kind = ReportBlock::Kind;
constexpr double pageWidth = 595, pageHeight = 842, margin = 50, usable = pageWidth - 2 * margin;

cairo_status_t take(void* to, const unsigned char* bytes, unsigned int count) {
    static_cast<std::string*>(to)->append(reinterpret_cast<const char*>(bytes), count);
    return CAIRO_STATUS_SUCCESS;
}

class Pages {
public:
    Pages()
        : m_surface(cairo_pdf_surface_create_for_stream(take, &m_bytes, pageWidth, pageHeight),
                    &cairo_surface_destroy),
          m_pen(cairo_create(m_surface.get()), &cairo_destroy) {
        // The same rows give the same bytes.
        cairo_pdf_surface_set_metadata(m_surface.get(), CAIRO_PDF_METADATA_CREATE_DATE,
                                       "2000-01-01T00:00:00");
    }

    void font(double size, bool bold = false, bool fixed = false) {
        m_size = size;
        cairo_select_font_face(m_pen.get(), fixed ? "DejaVu Sans Mono" : "DejaVu Sans",
                               CAIRO_FONT_SLANT_NORMAL,
                               bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
        cairo_set_font_size(m_pen.get(), size);
    }
    double widthOf(const std::string& text) {
        cairo_text_extents_t extents;
        cairo_text_extents(m_pen.get(), text.c_str(), &extents);
        return extents.x_advance;
    }
    /// Words in lines of a width; words that are too long are cut.
    std::vector<std::string> lines(const std::string& text, double width) {
        std::vector<std::string> out;
        std::string line;
        std::size_t at = 0;
        while (at < text.size()) {
            const std::size_t end = std::min(text.find(' ', at), text.size());
            std::string word = text.substr(at, end - at);
            at = end + 1;
            while (widthOf(word) > width) {
                std::size_t keep = word.size();
                while (keep > 1 && widthOf(word.substr(0, keep)) > width) {
                    --keep;
                    while (keep > 1 && (static_cast<unsigned char>(word[keep]) & 0xC0U) == 0x80)
                        --keep;
                }
                if (!line.empty()) out.push_back(std::exchange(line, {}));
                out.push_back(word.substr(0, keep));
                word = word.substr(keep);
            }
            const std::string longer = line.empty() ? word : line + " " + word;
            if (!line.empty() && widthOf(longer) > width) {
                out.push_back(line);
                line = word;
            } else {
                line = longer;
            }
        }
        if (!line.empty() || out.empty()) out.push_back(line);
        return out;
    }
    void room(double height) {
        if (m_y + height <= pageHeight - margin) return;
        cairo_show_page(m_pen.get());
        m_y = margin;
    }
    void write(double x, const std::string& text) {
        cairo_move_to(m_pen.get(), x, m_y + m_size);
        cairo_show_text(m_pen.get(), text.c_str());
    }
    void down(double by) { m_y += by; }
    double lineHeight() const { return m_size * 1.4; }
    void paragraph(const std::string& text) {
        for (const std::string& line : lines(text, usable)) {
            room(lineHeight());
            write(margin, line);
            down(lineHeight());
        }
        down(4);
    }
    void preformatted(const std::string& text) {
        std::size_t at = 0;
        while (at < text.size()) {
            const std::size_t end = std::min(text.find('\n', at), text.size());
            const std::string line = text.substr(at, end - at);
            const std::size_t indent = std::min(line.find_first_not_of(' '), line.size());
            const double x = static_cast<double>(indent) * m_size * 0.5;
            for (const std::string& part : lines(line.substr(indent), usable - x)) {
                room(lineHeight());
                write(margin + x, part);
                down(lineHeight());
            }
            at = end + 1;
        }
        down(4);
    }
    void table(const std::vector<std::vector<std::string>>& cells) {
        const std::size_t columns = cells[0].size();
        std::vector<double> widths(columns, 20);
        for (const auto& row : cells)
            for (std::size_t c = 0; c < std::min(columns, row.size()); ++c)
                widths[c] = std::max(widths[c], std::min(widthOf(row[c]) + 10, usable * 0.6));
        double whole = 0;
        for (const double w : widths)
            whole += w;
        // The widest give way.
        while (whole > usable) {
            const auto widest = std::max_element(widths.begin(), widths.end());
            const double by = std::min(whole - usable, *widest * 0.1);
            *widest -= by;
            whole -= by;
        }
        const std::vector<bool> numbers = columnsOfNumbers(cells);
        const std::function<void(std::size_t)> put = [&](std::size_t r) {
            std::vector<std::vector<std::string>> parts;
            std::size_t tallest = 1;
            for (std::size_t c = 0; c < std::min(columns, cells[r].size()); ++c) {
                parts.push_back(lines(cells[r][c], widths[c] - 8));
                tallest = std::max(tallest, parts.back().size());
            }
            const double before = m_y;
            room(static_cast<double>(std::min<std::size_t>(tallest, 40)) * lineHeight());
            if (r > 0 && m_y < before) put(0); // a new page: its columns have heads too
            for (std::size_t l = 0; l < tallest; ++l) {
                room(lineHeight());
                double x = margin;
                for (std::size_t c = 0; c < parts.size(); ++c) {
                    if (l < parts[c].size())
                        write(numbers[c] ? x + widths[c] - 8 - widthOf(parts[c][l]) : x, parts[c][l]);
                    x += widths[c];
                }
                down(lineHeight());
            }
            cairo_set_line_width(m_pen.get(), r == 0 ? 0.8 : 0.4);
            cairo_set_source_rgb(m_pen.get(), r == 0 ? 0.2 : 0.8, r == 0 ? 0.2 : 0.8, r == 0 ? 0.2 : 0.8);
            cairo_move_to(m_pen.get(), margin, m_y + 1);
            cairo_line_to(m_pen.get(), margin + usable, m_y + 1);
            cairo_stroke(m_pen.get());
            cairo_set_source_rgb(m_pen.get(), 0, 0, 0);
            down(3);
        };
        for (std::size_t r = 0; r < cells.size(); ++r)
            put(r);
        down(6);
    }
    void plot(const ReportBlock& block) {
        constexpr double height = 260, left = 70, below = 36;
        room(height + 20);
        const auto [x0, x1] = std::minmax_element(block.x.begin(), block.x.end());
        const auto [y0, y1] = std::minmax_element(block.y.begin(), block.y.end());
        const double xl = *x0, xh = *x1 > *x0 ? *x1 : *x0 + 1, yl = *y0, yh = *y1 > *y0 ? *y1 : *y0 + 1;
        const double top = m_y, w = usable - left, h = height - below;
        const auto px = [&](double x) { return margin + left + (x - xl) / (xh - xl) * w; };
        const auto py = [&](double y) { return top + h - (y - yl) / (yh - yl) * h; };
        cairo_t* pen = m_pen.get();
        cairo_set_line_width(pen, 0.4);
        cairo_rectangle(pen, margin + left, top, w, h);
        cairo_stroke(pen);
        for (std::size_t i = 0; i < block.x.size(); ++i) {
            cairo_new_sub_path(pen);
            cairo_arc(pen, px(block.x[i]), py(block.y[i]), 1.2, 0, 6.2832);
        }
        cairo_stroke(pen);
        if (block.lineX.size() > 1) {
            cairo_save(pen);
            cairo_rectangle(pen, margin + left, top, w, h);
            cairo_clip(pen);
            cairo_set_line_width(pen, 1);
            cairo_move_to(pen, px(block.lineX[0]), py(block.lineY[0]));
            for (std::size_t i = 1; i < block.lineX.size(); ++i)
                cairo_line_to(pen, px(block.lineX[i]), py(block.lineY[i]));
            cairo_stroke(pen);
            cairo_restore(pen);
        }
        font(7);
        const auto at = [&](double x, double y, const std::string& text) {
            cairo_move_to(pen, x, y);
            cairo_show_text(pen, text.c_str());
        };
        for (const double t : roundTicks(xl, xh))
            at(px(t) - widthOf(groupedText(t)) / 2, top + h + 10, groupedText(t));
        for (const double t : roundTicks(yl, yh))
            at(margin + left - 4 - widthOf(groupedText(t)), py(t) + 3, groupedText(t));
        at(margin + left + (w - widthOf(block.xTitle)) / 2, top + h + 22, block.xTitle);
        cairo_save(pen);
        cairo_move_to(pen, margin + 10, top + (h + widthOf(block.yTitle)) / 2);
        cairo_rotate(pen, -1.5708);
        cairo_show_text(pen, block.yTitle.c_str());
        cairo_restore(pen);
        m_y = top + height;
        font(9);
        paragraph(block.text);
    }
    std::string finish() {
        cairo_show_page(m_pen.get());
        m_pen.reset();
        cairo_surface_finish(m_surface.get());
        if (cairo_surface_status(m_surface.get()) != CAIRO_STATUS_SUCCESS)
            throw Error(ErrorCode::cannotWrite, "the report could not be drawn");
        return m_bytes;
    }

private:
    std::string m_bytes;
    std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> m_surface;
    std::unique_ptr<cairo_t, decltype(&cairo_destroy)> m_pen;
    double m_y = margin, m_size = 10;
};

} // namespace

std::string reportPdf(const std::vector<ReportBlock>& blocks) {
    Pages pages;
    const auto text = [](const std::string& from) { return harmless(from, true); };
    for (const ReportBlock& block : blocks)
        switch (block.kind) {
        case Kind::title:
            pages.font(18, true);
            pages.paragraph(text(block.text));
            break;
        case Kind::heading:
            pages.room(80);
            pages.down(12);
            pages.font(13, true);
            pages.paragraph(text(block.text));
            break;
        case Kind::paragraph:
            pages.font(9.5);
            pages.paragraph(text(block.text));
            break;
        case Kind::lines:
            pages.font(7.5, false, true);
            pages.preformatted(text(block.text));
            break;
        case Kind::table: {
            pages.font(8);
            std::vector<std::vector<std::string>> cells = block.cells;
            for (auto& row : cells)
                for (std::string& cell : row)
                    cell = text(cell);
            pages.table(cells);
            break;
        }
        case Kind::plot:
            pages.plot(block);
            break;
        }
    return pages.finish();
}

} // namespace oxgoad
