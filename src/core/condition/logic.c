/* What follows from what, without a message: that one condition holds wherever another does, that a condition
 * can never hold, or always does. What is claimed is proved; what cannot be proved is not claimed. */
#include "core/condition/logic.h"
#include "core/condition/condition_private.h"

enum { MOST_STEPS = 20000, MINUTES = 24 * 60 };

struct proof {
    const struct ind_conditions *set;
    unsigned steps; /* names are gone through wherever they are used: not forever */
};

/* A node, or the contrary of it. */
struct term {
    uint32_t node;
    bool negated;
};

static struct term contrary(struct term term)
{
    return (struct term){term.node, !term.negated};
}

/* Names and "not" looked through. */
static struct term plain(const struct ind_conditions *set, struct term term)
{
    for (;;) {
        const struct ind_condition_node *node = &set->nodes[term.node];
        if (node->kind != IND_CONDITION_NODE_NOT && node->kind != IND_CONDITION_NODE_NAME)
            return term;
        term = (struct term){node->first, term.negated != (node->kind == IND_CONDITION_NODE_NOT)};
    }
}

/* ---- One test and another ---- */

static bool same_field(const struct ind_test *a, const struct ind_test *b)
{
    return a->field == b->field && ind_slice_equal(a->id, b->id) && ind_slice_equal(a->name, b->name);
}

static bool stands_at(struct ind_slice whole, size_t at, struct ind_slice part, bool nocase)
{
    struct ind_slice rest = ind_slice_from(whole, at);
    return nocase ? ind_slice_starts_nocase(rest, part) : ind_slice_starts(rest, part);
}

static bool ends(struct ind_slice whole, struct ind_slice part, bool nocase)
{
    return whole.length >= part.length && stands_at(whole, whole.length - part.length, part, nocase);
}

/* Whether a value of that text fits; `unknown` where that cannot be found out here. */
static bool value_fits(const struct ind_conditions *set, const struct ind_test *test, struct ind_slice value,
                       bool nocase, bool unknown)
{
    struct ind_test asked = *test;
    bool text = test->texts && test->op != IND_OP_MATCHES;
    if (!text && test->op != IND_OP_PRESENT && test->op != IND_OP_WITHIN)
        return unknown;
    asked.nocase = nocase;
    return ind_value_fits(set, &asked, value, NULL);
}

/* Every text of `a` makes `b` true. The values of a host may have their domain or not, so that only equality
 * says something of them. */
static bool texts_imply(const struct ind_conditions *set, const struct ind_test *a, const struct ind_test *b)
{
    bool host = ind_field_rows[a->field].kind == IND_KIND_NAME;
    if ((a->nocase && !b->nocase) || !a->texts || (b->op != IND_OP_WITHIN && !b->texts) ||
        b->op == IND_OP_MATCHES)
        return false;
    for (size_t i = 0; i < a->count; i++) {
        struct ind_slice text = a->texts[i];
        bool follows = false;
        if (a->op == IND_OP_IS && (!host || b->op == IND_OP_IS))
            follows = value_fits(set, b, text, b->nocase, false);
        else if (b->op == IND_OP_CONTAINS ||
                 (a->op == b->op && (b->op == IND_OP_STARTS || b->op == IND_OP_ENDS)))
            follows =
                a->op != IND_OP_MATCHES && a->op != IND_OP_IS && value_fits(set, b, text, b->nocase, false);
        if (!follows)
            return false;
    }
    return a->count > 0;
}

static bool networks_imply(const struct ind_test *a, const struct ind_test *b)
{
    for (size_t i = 0; i < a->count; i++) {
        bool inside = false;
        for (size_t k = 0; k < b->count; k++)
            inside |= a->networks[i].prefix >= b->networks[k].prefix &&
                      ind_network_holds(&b->networks[k], &a->networks[i].address);
        if (!inside)
            return false;
    }
    return a->count > 0;
}

static bool spans_imply(const struct ind_test *a, const struct ind_test *b)
{
    for (unsigned minute = 0; minute < MINUTES; minute++)
        if (ind_in_spans(a, minute) && !ind_in_spans(b, minute))
            return false;
    return true;
}

static bool test_implies(const struct ind_conditions *set, const struct ind_test *a, const struct ind_test *b)
{
    if (a == b)
        return true;
    if (!same_field(a, b))
        return false;
    if (a->op == IND_OP_DURING)
        return b->op == IND_OP_DURING && spans_imply(a, b);
    if (ind_field_rows[a->field].kind == IND_KIND_DAY)
        return (a->numbers & ~b->numbers) == 0;
    if (b->op == IND_OP_PRESENT)
        return true;
    if (a->op == IND_OP_AT_LEAST || a->op == IND_OP_AT_MOST)
        return a->op == b->op && (a->op == IND_OP_AT_LEAST ? a->limit >= b->limit : a->limit <= b->limit);
    if (a->op == IND_OP_WITHIN)
        return b->op == IND_OP_WITHIN && networks_imply(a, b);
    return texts_imply(set, a, b);
}

static bool networks_part(const struct ind_test *a, const struct ind_test *b)
{
    for (size_t i = 0; i < a->count; i++)
        for (size_t k = 0; k < b->count; k++)
            if (ind_network_holds(&a->networks[i], &b->networks[k].address) ||
                ind_network_holds(&b->networks[k], &a->networks[i].address))
                return false;
    return true;
}

/* `a` asks for equality with its texts: none of them fits `b`. */
static bool equality_excludes(const struct ind_conditions *set, const struct ind_test *a,
                              const struct ind_test *b)
{
    bool host = ind_field_rows[a->field].kind == IND_KIND_NAME;
    if (host && b->op != IND_OP_IS)
        return false;
    for (size_t i = 0; i < a->count; i++)
        if (value_fits(set, b, a->texts[i], a->nocase || b->nocase, true))
            return false;
    return a->texts != NULL;
}

static bool ends_exclude(const struct ind_test *a, const struct ind_test *b)
{
    bool nocase = a->nocase || b->nocase;
    for (size_t i = 0; i < a->count; i++)
        for (size_t k = 0; k < b->count; k++) {
            struct ind_slice x = a->texts[i], y = b->texts[k];
            bool both = a->op == IND_OP_STARTS
                            ? (x.length < y.length ? stands_at(y, 0, x, nocase) : stands_at(x, 0, y, nocase))
                            : (x.length < y.length ? ends(y, x, nocase) : ends(x, y, nocase));
            if (both)
                return false;
        }
    return true;
}

/* No message fulfils both. */
static bool tests_exclude(const struct ind_conditions *set, const struct ind_test *a,
                          const struct ind_test *b)
{
    if (!same_field(a, b) || ind_field_rows[a->field].several || a->op == IND_OP_PRESENT ||
        b->op == IND_OP_PRESENT)
        return false;
    if (a->op == IND_OP_DURING) {
        for (unsigned minute = 0; minute < MINUTES; minute++)
            if (ind_in_spans(a, minute) && ind_in_spans(b, minute))
                return false;
        return true;
    }
    if (ind_field_rows[a->field].kind == IND_KIND_DAY)
        return (a->numbers & b->numbers) == 0;
    if (a->op == IND_OP_AT_LEAST && b->op == IND_OP_AT_MOST)
        return a->limit > b->limit;
    if (a->op == IND_OP_AT_MOST && b->op == IND_OP_AT_LEAST)
        return a->limit < b->limit;
    if (a->op == IND_OP_WITHIN && b->op == IND_OP_WITHIN)
        return networks_part(a, b);
    if (a->op == IND_OP_IS || b->op == IND_OP_IS)
        return a->op == IND_OP_IS ? equality_excludes(set, a, b) : equality_excludes(set, b, a);
    return a->op == b->op && (a->op == IND_OP_STARTS || a->op == IND_OP_ENDS) && ends_exclude(a, b);
}

static bool literals_imply(const struct ind_conditions *set, struct term a, struct term b)
{
    const struct ind_test *x = &set->tests[set->nodes[a.node].test],
                          *y = &set->tests[set->nodes[b.node].test];
    if (!a.negated)
        return b.negated ? tests_exclude(set, x, y) : test_implies(set, x, y);
    return b.negated && test_implies(set, y, x);
}

/* ---- Conditions ---- */

/* Of every PRI it is known that the first does not hold or the second does. */
static bool by_pri(const struct ind_conditions *set, struct term a, struct term b)
{
    const struct ind_condition_facts *x = &set->facts[a.node], *y = &set->facts[b.node];
    for (int i = 0; i < IND_PRI_WORDS; i++)
        if (~((a.negated ? x->yes[i] : x->no[i]) | (b.negated ? y->no[i] : y->yes[i])))
            return false;
    return true;
}

static bool is_joint(const struct ind_conditions *set, struct term term, bool any)
{
    unsigned kind = set->nodes[term.node].kind;
    return (kind == IND_CONDITION_NODE_ALL || kind == IND_CONDITION_NODE_ANY) &&
           ((kind == IND_CONDITION_NODE_ANY) != term.negated) == any;
}

static bool implies(struct proof *proof, struct term a, struct term b);

/* Whether all (or one) of the parts of a joint `of` imply, or are implied by, the other term. */
static bool parts(struct proof *proof, struct term of, struct term other, bool all, bool forward)
{
    for (uint32_t part = proof->set->nodes[of.node].first; part; part = proof->set->nodes[part].next) {
        struct term term = {part, of.negated};
        if ((forward ? implies(proof, term, other) : implies(proof, other, term)) != all)
            return !all;
    }
    return all;
}

static bool implies(struct proof *proof, struct term a, struct term b)
{
    const struct ind_conditions *set = proof->set;
    if (++proof->steps > MOST_STEPS)
        return false;
    a = plain(set, a);
    b = plain(set, b);
    if ((a.node == b.node && a.negated == b.negated) || by_pri(set, a, b))
        return true;
    if (is_joint(set, a, true))
        return parts(proof, a, b, true, true);
    if (is_joint(set, b, false))
        return parts(proof, b, a, true, false);
    if (is_joint(set, a, false) && parts(proof, a, b, false, true))
        return true;
    if (is_joint(set, b, true))
        return parts(proof, b, a, false, false);
    return set->nodes[a.node].kind == IND_CONDITION_NODE_TEST &&
           set->nodes[b.node].kind == IND_CONDITION_NODE_TEST && literals_imply(set, a, b);
}

/* Two parts of which one or the other always fails. */
static bool clashing(struct proof *proof, struct term term, struct ind_clash *clash)
{
    for (uint32_t a = proof->set->nodes[term.node].first; a; a = proof->set->nodes[a].next)
        for (uint32_t b = proof->set->nodes[a].next; b; b = proof->set->nodes[b].next)
            if (implies(proof, (struct term){a, term.negated}, contrary((struct term){b, term.negated}))) {
                *clash = (struct ind_clash){a, b};
                return true;
            }
    return false;
}

static bool never(struct proof *proof, struct term term, struct ind_clash *clash)
{
    const struct ind_conditions *set = proof->set;
    static const struct term always = {IND_CONDITION_ALWAYS, false};
    if (++proof->steps > MOST_STEPS)
        return false;
    term = plain(set, term);
    if (is_joint(set, term, false) && clashing(proof, term, clash))
        return true;
    bool any = is_joint(set, term, true);
    for (uint32_t part = set->nodes[term.node].first; part && (any || is_joint(set, term, false));
         part = set->nodes[part].next)
        if (never(proof, (struct term){part, term.negated}, clash) != any)
            return !any;
    return any || by_pri(set, term, contrary(always));
}

bool ind_condition_never(const struct ind_conditions *set, ind_condition condition, bool negated,
                         struct ind_clash *clash)
{
    struct proof proof = {set, 0};
    *clash = (struct ind_clash){0, 0};
    return never(&proof, (struct term){condition, negated}, clash);
}

bool ind_condition_always(const struct ind_conditions *set, ind_condition condition)
{
    struct ind_clash unused;
    return ind_condition_never(set, condition, true, &unused);
}

bool ind_condition_implies(const struct ind_conditions *set, ind_condition a, ind_condition b)
{
    struct proof proof = {set, 0};
    return implies(&proof, (struct term){a, false}, (struct term){b, false});
}
