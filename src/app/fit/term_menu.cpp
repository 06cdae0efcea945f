#include "app/fit/term_menu.h"

#include "app/parts.h"
#include "base/text.h"
#include "recipe/recipe_edits.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QActionGroup>
#include <QInputDialog>
#include <QLabel>
#include <QRegularExpression>
#include <algorithm>

namespace oxgoad {

namespace {

class FormActions {
public:
    FormActions(Session& session, std::string column, std::optional<std::size_t> term)
        : m_session(session), m_column(std::move(column)), m_term(term) {
        if (m_term) m_now = session.recipe().terms[*m_term].parts[0];
    }

    TermPart part(Form form, int count = 0) const {
        TermPart p{m_column};
        p.form = form;
        p.count = count;
        return p;
    }

    void offer(QMenu& menu, const QString& text, const TermPart& part) const {
        auto* action = menu.addAction(QString(text).replace('&', "&&"));
        action->setCheckable(true);
        action->setChecked(m_now == part);
        QObject::connect(action, &QAction::triggered, &m_session, take(m_session, m_term, part));
    }

    /// Asks for a text and reads it into a part.
    void ask(QMenu& menu, const QString& text, const QString& question, const QString& before,
             const std::function<std::optional<TermPart>(const QString&)>& read) const {
        QWidget* owner = menu.parentWidget(); // menus go when they are closed
        while (owner && qobject_cast<QMenu*>(owner))
            owner = owner->parentWidget();
        QObject::connect(menu.addAction(text), &QAction::triggered, &m_session,
                         [&session = m_session, term = m_term, owner, text, question, before, read] {
                             auto* dialog = new QInputDialog(owner);
                             dialog->setObjectName("formDialog");
                             dialog->setAttribute(Qt::WA_DeleteOnClose);
                             dialog->setWindowTitle(QString(text).remove("…"));
                             dialog->setLabelText(question);
                             for (auto* label : dialog->findChildren<QLabel*>())
                                 label->setTextFormat(Qt::PlainText);
                             dialog->setTextValue(before);
                             QObject::connect(
                                 dialog, &QInputDialog::textValueSelected, &session,
                                 [&session, term, read, question](const QString& said) {
                                     if (const auto part = read(said))
                                         take(session, term, *part)();
                                     else
                                         emit session.failed(
                                             QObject::tr("\"%1\" could not be read. %2").arg(said, question));
                                 });
                             dialog->open();
                         });
    }

    static std::function<void()> take(Session& session, std::optional<std::size_t> term,
                                      const TermPart& part) {
        return [&session, term, part] {
            session.changeFrom(session.recipe(), term ? withOtherForm(session.recipe(), *term, part)
                                                      : withTerm(session.recipe(), Term{{part}}));
        };
    }
    const std::optional<TermPart>& now() const { return m_now; }

private:
    Session& m_session;
    std::string m_column;
    std::optional<std::size_t> m_term;
    std::optional<TermPart> m_now;
};

std::optional<std::vector<double>> numbersOf(const QString& text) {
    std::vector<double> numbers;
    for (const QString& word : text.split(QRegularExpression("[;\\s]+"), Qt::SkipEmptyParts)) {
        bool fine = false;
        numbers.push_back(word.toDouble(&fine));
        if (!fine) return std::nullopt;
    }
    return numbers;
}

QString knotsText(const std::optional<TermPart>& part) {
    QStringList knots;
    if (part)
        for (const double knot : part->knots)
            knots << qs(exactText(knot));
    return knots.join("  ");
}

} // namespace

void addFormActions(QMenu& menu, Session& session, const std::string& column, ColumnKind kind,
                    std::optional<std::size_t> term) {
    const FormActions form(session, column, term);
    const QString x = qs(column);
    if (kind == ColumnKind::factor) {
        form.offer(menu, QObject::tr("Levels against the reference level"), TermPart{column});
        form.offer(menu, QObject::tr("Levels against the mean of the levels"), form.part(Form::deviations));
        form.ask(
            menu, QObject::tr("As scores…"),
            QObject::tr(
                "Levels of %1 from low to high, with \"; \" between them; nothing for their own order. They "
                "count 1, 2, 3 …")
                .arg(x),
            {}, [part = form.part(Form::scores)](const QString& text) -> std::optional<TermPart> {
                TermPart p = part;
                for (const QString& level : text.split(';', Qt::SkipEmptyParts))
                    p.order.push_back(ss(level.trimmed()));
                return p;
            });
        form.ask(
            menu, QObject::tr("As a trend…"),
            QObject::tr(
                "Levels of %1 from low to high, with \"; \" between them; nothing for their own order. A "
                "straight trend, a bend, and so on are tested apart.")
                .arg(x),
            {}, [part = form.part(Form::trend)](const QString& text) -> std::optional<TermPart> {
                TermPart p = part;
                for (const QString& level : text.split(';', Qt::SkipEmptyParts))
                    p.order.push_back(ss(level.trimmed()));
                return p;
            });
        return;
    }
    form.offer(menu, QObject::tr("As it is"), TermPart{column});
    if (kind == ColumnKind::number) {
        form.offer(menu, QObject::tr("ln(%1)").arg(x), TermPart{column, 1, true});
        form.offer(menu, x + "²", TermPart{column, 2});
        form.offer(menu, x + "³", TermPart{column, 3});
        form.offer(menu, QObject::tr("1/%1").arg(x), TermPart{column, -1});
    }
    menu.addSeparator();
    form.offer(menu, QObject::tr("Less its mean"), form.part(Form::centred));
    form.offer(menu, QObject::tr("Standardised"), form.part(Form::standardised));
    auto* polynomial = menu.addMenu(QObject::tr("Polynomial"));
    for (int degree = 2; degree <= 6; ++degree)
        form.offer(*polynomial, QObject::tr("to degree %1").arg(degree), form.part(Form::polynomial, degree));
    const auto knots = [&](Form which, const QString& title, int low, int high) {
        auto* sub = menu.addMenu(title);
        for (int count = low; count <= high; ++count)
            form.offer(*sub,
                       QObject::tr("%1 at quantiles")
                           .arg(qs(plural(static_cast<std::size_t>(count), "knot", "knots"))),
                       form.part(which, count));
        if (kind == ColumnKind::number)
            form.ask(*sub, QObject::tr("Knots of your own…"),
                     QObject::tr("Knots of %1 from low to high, with spaces between them").arg(x),
                     knotsText(form.now()),
                     [part = form.part(which)](const QString& text) -> std::optional<TermPart> {
                         const auto numbers = numbersOf(text);
                         if (!numbers || numbers->empty()) return std::nullopt;
                         TermPart p = part;
                         p.knots = *numbers;
                         return p;
                     });
    };
    knots(Form::pieces, QObject::tr("Straight pieces"), 1, 5);
    knots(Form::spline, QObject::tr("Curve"), 3, 7);
    if (kind == ColumnKind::date) {
        auto* waves = menu.addMenu(QObject::tr("Yearly wave"));
        for (int pairs = 1; pairs <= 4; ++pairs)
            form.offer(*waves,
                       QObject::tr("in %1").arg(qs(plural(static_cast<std::size_t>(pairs), "pair", "pairs"))),
                       form.part(Form::wave, pairs));
        return;
    }
    form.ask(
        menu, QObject::tr("Wave…"),
        QObject::tr(
            "Period of %1 (12 for months of the year) and, after a space, how many pairs of cosine and sine")
            .arg(x),
        "12 1", [part = form.part(Form::wave)](const QString& text) -> std::optional<TermPart> {
            const auto numbers = numbersOf(text);
            if (!numbers || numbers->empty() || numbers->size() > 2) return std::nullopt;
            TermPart p = part;
            p.period = (*numbers)[0];
            p.count = numbers->size() == 2 ? static_cast<int>((*numbers)[1]) : 1;
            if (!(p.period > 0) || p.count < 1) return std::nullopt;
            return p;
        });
}

void addOrderActions(QMenu& menu, Session& session, const Term& term, std::function<void()> chosen) {
    auto* orders = menu.addMenu(QObject::tr("Order of its lines"));
    auto* group = new QActionGroup(orders);
    for (const auto& [order, text] : {std::pair(LevelOrder::named, QObject::tr("As they are named")),
                                      std::pair(LevelOrder::lowToHigh, QObject::tr("From low to high")),
                                      std::pair(LevelOrder::byP, QObject::tr("The smallest p first"))}) {
        auto* action = orders->addAction(text);
        action->setCheckable(true);
        action->setChecked(levelOrder(session, term) == order);
        group->addAction(action);
        QObject::connect(action, &QAction::triggered, orders,
                         [&session, term, wanted = order, told = chosen] {
                             setLevelOrder(session, term, wanted);
                             told();
                         });
    }
}

} // namespace oxgoad
