#include "core/condition/lex_private.h"

void ind_lex_wrong(struct ind_condition_reader *reader, const struct ind_token *token, const char *before,
                   struct ind_slice quoted, const char *after)
{
    ind_mistake_say(reader->mistake, token->at, token->length, before, quoted, after, IND_NOTHING, "");
}

bool ind_lex_stopped(const struct ind_condition_reader *reader)
{
    return reader->mistake->made || reader->broken || reader->set->out_of_memory;
}

static bool is_word_byte(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c) || c == '_' || c == '-' || c == '.' || c == ':' || c == '/';
}

/* A quoted text; `\` before the quote or another `\` stands for it. */
static void lex_text(struct ind_condition_reader *reader)
{
    struct ind_slice source = reader->source;
    size_t start = reader->next, at = start + 1;
    char quote = source.at[start];
    size_t end = at, length = 0;
    while (end < source.length && source.at[end] != quote)
        end += source.at[end] == '\\' ? 2 : 1;
    end = end < source.length ? end : source.length;
    struct ind_slice kept = ind_set_keep(reader->set, source.at + at, end - at);
    char *value = kept.at ? reader->set->kept[reader->set->kept_count - 1] : NULL;
    reader->now.kind = IND_TOKEN_TEXT;
    for (; value && at < end; at++) {
        if (source.at[at] == '\\' && at + 1 < end &&
            (source.at[at + 1] == quote || source.at[at + 1] == '\\'))
            at++;
        value[length++] = source.at[at];
    }
    reader->now.length = at - start;
    if (at >= source.length)
        ind_lex_wrong(reader, &reader->now, "this text has no closing ",
                      (struct ind_slice){&source.at[start], 1},
                      "; if the file has one, YAML took it away: quote the whole condition: when: '…'");
    else
        reader->now.length++;
    reader->now.text = (struct ind_slice){value, length};
}

void ind_lex_advance(struct ind_condition_reader *reader)
{
    struct ind_slice source = reader->source;
    reader->last_end = reader->now.at + reader->now.length;
    size_t at = reader->next;
    while (at < source.length && (source.at[at] == ' ' || source.at[at] == '\n' || source.at[at] == '\t'))
        at++;
    reader->next = at;
    reader->now = (struct ind_token){IND_TOKEN_END, at, 0, IND_NOTHING};
    if (at == source.length)
        return;
    char c = source.at[at];
    size_t end = at + 1;
    if (c == '"' || c == '\'') {
        lex_text(reader);
        reader->next = at + reader->now.length;
        return;
    }
    if (is_word_byte(c)) {
        reader->now.kind = IND_TOKEN_WORD;
        while (end < source.length && (is_word_byte(source.at[end]) || source.at[end] == '@'))
            end++;
    } else if (c == '(' || c == ')' || c == ',') {
        reader->now.kind = c == '(' ? IND_TOKEN_OPEN : c == ')' ? IND_TOKEN_CLOSE : IND_TOKEN_COMMA;
    } else {
        reader->now.kind = IND_TOKEN_OTHER;
        while (end < source.length && strchr("<>=!&|~", source.at[end]) && source.at[end] != '\0')
            end++;
        while (end < source.length && ((unsigned char)source.at[end] & 0xC0) == 0x80)
            end++;
    }
    reader->now.length = end - at;
    reader->now.text = (struct ind_slice){source.at + at, end - at};
    reader->next = end;
}

bool ind_lex_word_is(const struct ind_condition_reader *reader, const char *word)
{
    return reader->now.kind == IND_TOKEN_WORD && ind_slice_equal(reader->now.text, ind_slice_of(word));
}

bool ind_lex_accept_word(struct ind_condition_reader *reader, const char *word)
{
    if (!ind_lex_word_is(reader, word))
        return false;
    ind_lex_advance(reader);
    return true;
}

const char *ind_lex_remedy(const struct ind_instead *table, size_t count, struct ind_slice written)
{
    for (size_t i = 0; i < count; i++)
        if (ind_slice_equal_nocase(written, ind_slice_of(table[i].written)))
            return table[i].remedy;
    return NULL;
}
