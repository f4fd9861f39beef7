#include "trial/fit.h"

#include "core/message/header.h"
#include <stdlib.h>

struct ind_fitter {
    struct ind_fit_settings settings;
    struct ind_patterns *own; /* what is tried, where it is not all of the configuration */
    const struct ind_patterns *patterns;
    struct ind_matcher *matcher;
    struct ind_fit fit;
    struct ind_payload payload;
    char scratch[IND_PAYLOAD_SCRATCH];
};

/* All layouts of one pattern of the configuration. */
static bool copy_pattern(const struct ind_patterns *from, uint32_t number, struct ind_patterns *to)
{
    struct ind_mistake mistake = {0};
    struct ind_slice apps[64];
    uint32_t copy;
    size_t count = ind_pattern_app_count(from, number);
    for (size_t i = 0; i < count && i < 64; i++)
        apps[i] = ind_pattern_app(from, number, i);
    if (!ind_patterns_add(to, ind_pattern_name(from, number), apps, count, &copy))
        return false;
    for (size_t i = 0; i < ind_patterns_syntax_count(from); i++) {
        const struct ind_pattern_syntax *layout = ind_patterns_syntax(from, i);
        if (layout->pattern == number && !ind_patterns_add_syntax(to, copy, layout->source, &mistake))
            return false;
    }
    return true;
}

static bool choose(struct ind_fitter *fitter, struct ind_mistake *mistake)
{
    const struct ind_fit_settings *settings = &fitter->settings;
    uint32_t number;
    fitter->patterns = settings->config->patterns;
    if (!settings->layout.at && !settings->name.at)
        return true;
    fitter->patterns = fitter->own = ind_patterns_new();
    if (!fitter->own)
        return false;
    if (settings->layout.at)
        return ind_patterns_add(fitter->own, IND_SLICE("this pattern"), NULL, 0, &number) &&
               ind_patterns_add_syntax(fitter->own, number, settings->layout, mistake) &&
               ind_patterns_compile(fitter->own);
    return ind_pattern_named(settings->config->patterns, settings->name, &number) &&
           copy_pattern(settings->config->patterns, number, fitter->own) && ind_patterns_compile(fitter->own);
}

struct ind_fitter *ind_fitter_new(const struct ind_fit_settings *settings, struct ind_mistake *mistake)
{
    struct ind_fitter *fitter = calloc(1, sizeof *fitter);
    if (!fitter)
        return NULL;
    fitter->settings = *settings;
    if (choose(fitter, mistake) && (fitter->matcher = ind_matcher_new(fitter->patterns)) != NULL)
        return fitter;
    ind_fitter_free(fitter);
    return NULL;
}

void ind_fitter_free(struct ind_fitter *fitter)
{
    if (!fitter)
        return;
    ind_matcher_free(fitter->matcher);
    ind_patterns_free(fitter->own);
    free(fitter);
}

const struct ind_patterns *ind_fitter_patterns(const struct ind_fitter *fitter)
{
    return fitter->patterns;
}

/* What the pattern alone gives: the payload's fields are not asked for here. */
static void read_fields(struct ind_fitter *fitter)
{
    const struct ind_message nothing = {.text = IND_NOTHING};
    struct ind_fit *fit = &fitter->fit;
    ind_match_fields(fitter->matcher, fit->layout, fit->values);
    fit->pattern = ind_pattern_name(fitter->patterns, fit->layout->pattern);
    ind_fields_read(&nothing, fitter->matcher, fit->layout, fit->pattern, fitter->scratch,
                    sizeof fitter->scratch, &fitter->payload);
    fit->fields = &fitter->payload;
}

const struct ind_fit *ind_fit_try(struct ind_fitter *fitter, struct ind_slice sample)
{
    const struct ind_fit_settings *settings = &fitter->settings;
    struct ind_fit *fit = &fitter->fit;
    struct ind_message message;
    *fit = (struct ind_fit){.sample = sample, .text = sample, .app = settings->app};
    ind_header_read(sample.at, sample.length, settings->now, settings->config->zone, &message);
    if (message.pri_given) {
        fit->text = message.text;
        fit->app = settings->app.at ? settings->app : message.app;
    }
    bool any_app = !settings->app.at && !message.pri_given;
    ind_matcher_next(fitter->matcher);
    fit->layout = ind_match(fitter->matcher, fit->text, fit->app, any_app);
    if (fit->layout)
        read_fields(fitter);
    else
        fit->stop_count = ind_match_stops(fitter->matcher, fit->text, fit->app, any_app, fit->stops);
    return fit;
}
