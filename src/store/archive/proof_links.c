/* The links of each series: whether each line is what its hash says, and whether each follows the one before.
 *
 * A line is judged by both its neighbours: by its own hash, which is made over the link before it, and by the
 * link behind it, which is made over its own. So one changed line is told from a chain of which all the rest
 * is wrong, and a line that was put in from one that was changed. */
#include "store/archive/proof_private.h"

#include <stdlib.h>
#include <string.h>

/* ---- Each with the one before ---- */

/* By their number, then by their place. */
static int by_number(const void *one, const void *other)
{
    const struct ind_proof_line *a = *(struct ind_proof_line *const *)one,
                                *b = *(struct ind_proof_line *const *)other;
    if (a->link.number != b->link.number)
        return a->link.number < b->link.number ? -1 : 1;
    return (a->number > b->number) - (a->number < b->number);
}

static bool goes_behind(const struct ind_link *before, const struct ind_proof_line *line,
                        unsigned char made[IND_HASH])
{
    const struct ind_slice covered = {line->text, line->link.covered};
    return ind_link_hash(before, covered, made) && memcmp(made, line->link.hash, IND_HASH) == 0;
}

/* `line` behind `before`, which bears the number before its own. */
static void join(struct ind_proof_line *before, struct ind_proof_line *line)
{
    unsigned char made[IND_HASH];
    line->should.is_signed = line->link.is_signed;
    memcpy(line->should.signature, line->link.signature, IND_SIGNATURE);
    if (goes_behind(&before->passes_on, line, made) ||
        (before->follows && !before->compacted && goes_behind(&before->should, line, made))) {
        line->fits = before->confirmed = true;
        memcpy(line->should.hash, made, IND_HASH);
    } else if (!line->follows) {
        (void)ind_link_hash(&before->passes_on, (struct ind_slice){line->text, line->link.covered},
                            line->should.hash);
    }
    line->follows = true;
}

static void join_first(struct ind_proof_line *line)
{
    line->should = line->link;
    line->follows = true;
    line->fits = goes_behind(NULL, line, line->should.hash);
}

/* `list` is by number: those with the number before stand together in front of those with the same. */
static void join_all(struct ind_proof_line **list, size_t count)
{
    size_t from = 0, to = 0; /* those with the number before */
    for (size_t i = 0; i < count; i++) {
        const uint64_t number = list[i]->link.number;
        if (i > 0 && list[i - 1]->link.number != number) {
            to = i;
            from = i;
            while (from > 0 && list[from - 1]->link.number + 1 == number)
                from--;
        }
        if (number == 1 || list[i]->compacted)
            join_first(list[i]);
        for (size_t before = from; before < to && !list[i]->compacted; before++)
            join(list[before], list[i]);
    }
}

/* ---- What that says of each ---- */

static const struct ind_public_key *key_of(const struct ind_proof_settings *settings,
                                           const struct ind_link *link)
{
    for (size_t i = 0; i < settings->key_count; i++)
        if (ind_link_is_signed_by(link, settings->keys[i]))
            return settings->keys[i];
    return NULL;
}

/* Where a line does not go with the one before, the signature of that one tells which of them was changed. */
static void blame(const struct ind_proof_settings *settings, struct ind_proof_line **list, size_t count)
{
    for (size_t i = 1; settings->key_count && i < count; i++) {
        struct ind_proof_line *before = list[i - 1], *line = list[i];
        if (line->fits || !line->confirmed || !before->fits || before->link.number + 1 != line->link.number ||
            !before->link.is_signed || !line->link.is_signed || key_of(settings, &before->link) ||
            !key_of(settings, &line->link))
            continue;
        before->fits = false;
        before->confirmed = line->fits = true;
    }
}

/* Whether the numbers of those around it, which are not in doubt, leave room for it. */
static bool is_in_place(struct ind_proof_line *const *lines, size_t count, size_t i)
{
    size_t before = i, behind = i + 1;
    while (before > 0 && !lines[before - 1]->fits)
        before--;
    while (behind < count && !lines[behind]->fits)
        behind++;
    return (before == 0 || lines[before - 1]->link.number < lines[i]->link.number) &&
           (behind == count || lines[behind]->link.number > lines[i]->link.number);
}

static void judge(struct ind_proof_chain *chain)
{
    for (size_t i = 0; i < chain->line_count; i++) {
        struct ind_proof_line *line = chain->lines[i];
        const bool behind_gap =
            line->linked && !line->follows && is_in_place(chain->lines, chain->line_count, i);
        line->verdict = line->fits || behind_gap ? IND_LINE_GOOD
                        : line->confirmed        ? IND_LINE_CHANGED
                                                 : IND_LINE_ADDED;
    }
}

/* ---- Numbers that nobody bears ---- */

/* A stretch of numbers, and of the journal, in which their lines should be. */
struct gap {
    uint64_t from, to;
    uint64_t after, before; /* lines of the journal */
};

/* How many links a line held that is none any more: two, where the end between two lines was changed. */
static uint64_t links_in(const struct ind_proof_line *line)
{
    static const char key[] = "\"chain\":\"";
    uint64_t count = 0;
    for (size_t i = 0; !line->linked && i + sizeof key <= line->length; i++)
        count += memcmp(line->text + i, key, sizeof key - 1) == 0;
    return count ? count : 1;
}

/* How well a line that is none of any chain explains a gap; 0: not at all. */
static int explains(const struct ind_proof_line *line, const struct ind_proof_chain *chain,
                    const struct gap *gap)
{
    if (line->verdict != IND_LINE_ADDED || line->told)
        return 0;
    if (line->linked && line->link.number >= gap->from && line->link.number <= gap->to)
        return line->chain == chain ? 4 : 3;
    return line->chain == chain ? 2 : line->chain ? 0 : 1;
}

static size_t first_after(const struct ind_proof_ledger *ledger, uint64_t number)
{
    size_t low = 0, high = ledger->line_count;
    while (low < high) {
        const size_t middle = low + (high - low) / 2;
        if (ledger->lines[middle].number <= number)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

static struct ind_proof_line *explanation(struct ind_proof_ledger *ledger,
                                          const struct ind_proof_chain *chain, const struct gap *gap)
{
    struct ind_proof_line *best = NULL;
    int how_well = 0;
    for (size_t i = first_after(ledger, gap->after);
         i < ledger->line_count && ledger->lines[i].number < gap->before; i++) {
        const int this = explains(&ledger->lines[i], chain, gap);
        if (this > how_well) {
            how_well = this;
            best = &ledger->lines[i];
        }
    }
    return best;
}

/* Lines within the gap that were changed so that they bear other numbers, or none; and how many are missing.
 */
static void explain_gap(struct ind_proof_ledger *ledger, struct ind_proof_chain *chain, const struct gap *gap,
                        bool is_end, struct ind_proof *proof)
{
    uint64_t missing = gap->to - gap->from + 1;
    struct ind_proof_line *line;
    chain->holes = true;
    while (missing && (line = explanation(ledger, chain, gap)) != NULL) {
        const uint64_t held = links_in(line);
        line->verdict = IND_LINE_CHANGED;
        line->told = true;
        missing -= held < missing ? held : missing;
        ind_proof_find(proof, IND_FOUND_LINE_CHANGED, chain->series, NULL, line->number,
                       "it was changed, and is no link of the chain any more (it was link %llu%s)",
                       (unsigned long long)gap->from,
                       gap->to > gap->from ? ", or one of those behind it" : "");
    }
    if (missing && is_end)
        ind_proof_find(proof, IND_FOUND_CUT, chain->series, NULL, gap->after,
                       "behind it the links from %llu to %llu, which are known, are missing",
                       (unsigned long long)gap->from, (unsigned long long)gap->to);
    else if (missing)
        ind_proof_find(proof, IND_FOUND_LINES_MISSING, chain->series, NULL, gap->before,
                       "before it %llu of the links %llu to %llu are missing", (unsigned long long)missing,
                       (unsigned long long)gap->from, (unsigned long long)gap->to);
}

static bool bears_a_number(const struct ind_proof_line *line)
{
    return line->linked && line->verdict != IND_LINE_ADDED;
}

/* Returns the last number; *last: the line that bears it. `list` is by number. */
static uint64_t find_gaps(struct ind_proof_ledger *ledger, struct ind_proof_chain *chain,
                          struct ind_proof_line **list, size_t count, struct ind_proof *proof)
{
    uint64_t number = 0, place = 0;
    for (size_t i = 0; i < count; i++) {
        const struct ind_proof_line *line = list[i];
        if (!bears_a_number(line))
            continue;
        if (place == 0 && line->compacted)
            number = line->link.number - 1; /* those before are left out, by us */
        const struct gap gap = {number + 1, line->link.number - 1, place, line->number};
        if (line->link.number > number + 1)
            explain_gap(ledger, chain, &gap, false, proof);
        number = line->link.number;
        place = line->number;
    }
    return number;
}

/* ---- The end ---- */

static const struct ind_proof_line *line_with(struct ind_proof_line *const *list, size_t count,
                                              uint64_t number)
{
    for (size_t i = 0; i < count; i++)
        if (list[i]->link.number == number && bears_a_number(list[i]))
            return list[i];
    return NULL;
}

static void compare_with_head(struct ind_proof_ledger *ledger, struct ind_proof_chain *chain,
                              struct ind_proof_line **list, size_t count, struct ind_proof *proof)
{
    const struct ind_proof_line *last = line_with(list, count, chain->last);
    const struct gap gap = {chain->last + 1, chain->known, last ? last->number : 0, UINT64_MAX};
    if (chain->known > chain->last)
        explain_gap(ledger, chain, &gap, true, proof);
    const struct ind_proof_line *line = line_with(list, count, chain->known);
    if (line && line->fits && memcmp(line->passes_on.hash, chain->known_hash, IND_HASH) != 0) {
        chain->holes = true;
        ind_proof_find(proof, IND_FOUND_CUT, chain->series, NULL, line->number,
                       "link %llu is not the one that is known: the chain was made anew",
                       (unsigned long long)chain->known);
    }
}

/* A last line that was changed has no link behind it that could tell. */
static void judge_last(struct ind_proof_chain *chain, struct ind_proof *proof)
{
    for (size_t i = chain->line_count; i-- > 0;) {
        struct ind_proof_line *line = chain->lines[i];
        if (line->verdict != IND_LINE_ADDED || line->told)
            return;
        if (!line->linked || line->link.number != chain->last + 1)
            continue;
        line->verdict = IND_LINE_CHANGED;
        line->told = true;
        chain->last = line->link.number;
        chain->holes = true;
        ind_proof_find(proof, IND_FOUND_LINE_CHANGED, chain->series, NULL, line->number,
                       "it is not what its hash says (link %llu, the last)",
                       (unsigned long long)line->link.number);
        return;
    }
}

/* ---- Order ---- */

/* Those that are in no longest run of rising numbers have been moved. `tails[n]`: the line at which the best
 * run of n + 1 ends; `before[i]`: the one before line i in its run. */
static void mark_moved(struct ind_proof_chain *chain, struct ind_proof *proof)
{
    const size_t count = chain->line_count;
    size_t *tails = calloc(count + 1, sizeof *tails), *before = calloc(count + 1, sizeof *before);
    size_t length = 0;
    for (size_t i = 0; tails && before && i < count; i++) {
        if (!bears_a_number(chain->lines[i]))
            continue;
        size_t low = 0, high = length;
        while (low < high) {
            const size_t middle = low + (high - low) / 2;
            if (chain->lines[tails[middle]]->link.number < chain->lines[i]->link.number)
                low = middle + 1;
            else
                high = middle;
        }
        before[i] = low ? tails[low - 1] : SIZE_MAX;
        tails[low] = i;
        length = low == length ? low + 1 : length;
    }
    size_t in_run = length ? tails[length - 1] : SIZE_MAX;
    for (size_t i = count; tails && before && i-- > 0;) {
        struct ind_proof_line *line = chain->lines[i];
        if (i == in_run) {
            in_run = before[i];
        } else if (bears_a_number(line) && !line->told) {
            line->told = true;
            ind_proof_find(proof, IND_FOUND_LINE_MOVED, chain->series, NULL, line->number,
                           "it is not in its place (link %llu)", (unsigned long long)line->link.number);
        }
    }
    proof->unreadable += !tails || !before;
    free(tails);
    free(before);
}

/* A link that is there twice: the second one, unless the first one is out of order. */
static void mark_copies(struct ind_proof_line **list, size_t count, struct ind_proof *proof)
{
    for (size_t i = 1; i < count; i++) {
        if (list[i]->link.number != list[i - 1]->link.number || !bears_a_number(list[i]) ||
            !bears_a_number(list[i - 1]))
            continue;
        const bool first_is_late = i >= 2 && list[i - 2]->number > list[i - 1]->number;
        struct ind_proof_line *copy = first_is_late ? list[i - 1] : list[i];
        struct ind_proof_line *other = first_is_late ? list[i] : list[i - 1];
        copy->verdict = IND_LINE_ADDED;
        copy->told = true;
        ind_proof_find(proof, IND_FOUND_LINE_ADDED, copy->chain->series, NULL, copy->number,
                       "link %llu is there twice; it stands in line %llu, too",
                       (unsigned long long)copy->link.number, (unsigned long long)other->number);
        if (first_is_late)
            list[i - 1] = other; /* further copies are compared with it */
    }
}

/* ---- Signatures ---- */

/* One that is right proves every link before it: those are hashed into it. */
static void check_signatures(const struct ind_proof_settings *settings, struct ind_proof_chain *chain,
                             struct ind_proof_line **list, size_t count, struct ind_proof *proof)
{
    uint64_t signed_to = 0, last = 0;
    const struct ind_proof_line *behind = NULL; /* the first one behind what is proven */
    bool any = false;
    for (size_t i = count; i-- > 0 && !signed_to;) {
        if (!bears_a_number(list[i]))
            continue;
        any |= list[i]->link.is_signed;
        last = last ? last : list[i]->link.number;
        if (list[i]->link.is_signed && settings->key_count && key_of(settings, &list[i]->link))
            signed_to = list[i]->link.number;
        else
            behind = list[i];
    }
    /* Who has no key could leave out what he likes: such a line stands for all that it hands on. */
    for (size_t i = 0; i < count && any && settings->key_count; i++)
        if (list[i]->compacted && bears_a_number(list[i]) && !key_of(settings, &list[i]->link))
            ind_proof_find(proof, IND_FOUND_UNSIGNED, chain->series, NULL, list[i]->number,
                           "what stood before is left out, and the key has not signed that");
    chain->result.signed_to = signed_to;
    proof->signatures_unlooked |= any && settings->key_count == 0;
    if (behind && settings->key_count && (signed_to || any || settings->signatures_wanted)) {
        behind = behind->link.number > signed_to ? behind : NULL;
        if (behind)
            ind_proof_find(
                proof, IND_FOUND_UNSIGNED, chain->series, NULL, behind->number,
                "the links %llu to %llu are not signed by the key: who has none may have made them",
                (unsigned long long)behind->link.number, (unsigned long long)last);
    }
}

/* ---- Together ---- */

static void tell_lines(struct ind_proof_chain *chain, struct ind_proof *proof)
{
    for (size_t i = 0; i < chain->line_count; i++) {
        struct ind_proof_line *line = chain->lines[i];
        chain->holes |= line->verdict == IND_LINE_CHANGED;
        if (line->told || line->verdict == IND_LINE_GOOD)
            continue;
        line->told = true;
        if (line->verdict == IND_LINE_CHANGED)
            ind_proof_find(proof, IND_FOUND_LINE_CHANGED, chain->series, NULL, line->number,
                           "it is not what its hash says (link %llu)", (unsigned long long)line->link.number);
        else
            ind_proof_find(proof, IND_FOUND_LINE_ADDED, chain->series, NULL, line->number,
                           line->linked ? "it is no link of the chain, though it says so"
                                        : "it has no link: it was put in, or its end was changed");
    }
}

static void check_chain(const struct ind_proof_settings *settings, struct ind_proof_ledger *ledger,
                        struct ind_proof_chain *chain, struct ind_proof *proof)
{
    struct ind_proof_line **list = calloc(chain->line_count + 1, sizeof(struct ind_proof_line *));
    size_t count = 0;
    if (!list) {
        proof->unreadable++;
        return;
    }
    for (size_t i = 0; i < chain->line_count; i++)
        if (chain->lines[i]->linked)
            list[count++] = chain->lines[i];
    qsort(list, count, sizeof *list, by_number);
    join_all(list, count);
    blame(settings, list, count);
    judge(chain);
    mark_copies(list, count, proof);
    chain->last = find_gaps(ledger, chain, list, count, proof);
    if (chain->known)
        compare_with_head(ledger, chain, list, count, proof);
    judge_last(chain, proof);
    mark_moved(chain, proof);
    check_signatures(settings, chain, list, count, proof);
    tell_lines(chain, proof);
    chain->result.links = chain->last;
    free(list);
}

void ind_proof_links(const struct ind_proof_settings *settings, struct ind_proof_ledger *ledger,
                     struct ind_proof *proof)
{
    for (struct ind_proof_chain *chain = ledger->chains; chain; chain = chain->hh.next)
        if (chain->last)
            check_chain(settings, ledger, chain, proof);
    for (size_t i = 0; i < ledger->line_count; i++) {
        struct ind_proof_line *line = &ledger->lines[i];
        if (line->chain || line->told)
            continue;
        line->told = true;
        ind_proof_find(proof, IND_FOUND_LINE_CHANGED, NULL, NULL, line->number,
                       "it is no record, and nothing that a crash leaves");
    }
}
