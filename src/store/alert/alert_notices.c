/* The tables `mutes` and `notices`. */
#include "store/alert/alert_file_private.h"

bool ind_alert_file_mute(struct ind_alert_file *file, const char *name, const char *key, ind_time until,
                         const char *who)
{
    return ind_alert_file_do(file,
                             "INSERT INTO mutes VALUES(?1, coalesce(?2, ''), ?2 IS NULL, ?3, ?4)"
                             " ON CONFLICT(name, key, of_all) DO UPDATE SET until = ?3, who = ?4",
                             "ttnt", name, key, until, who);
}

bool ind_alert_file_mutes(struct ind_alert_file *file, ind_time now,
                          void (*visit)(void *context, const char *name, const char *key, ind_time until,
                                        const char *who),
                          void *context)
{
    sqlite3_stmt *rows = ind_alert_file_ask(
        file, "SELECT name, key, of_all, until, who FROM mutes WHERE until > ?1 ORDER BY name, key", "n",
        now);
    int result = SQLITE_DONE;
    while (rows && (result = sqlite3_step(rows)) == SQLITE_ROW)
        visit(context, ind_alert_file_text(rows, 0),
              sqlite3_column_int(rows, 2) ? NULL : ind_alert_file_text(rows, 1), ind_alert_file_time(rows, 3),
              ind_alert_file_text(rows, 4));
    return rows && ind_alert_file_asked(file, rows, result);
}

bool ind_alert_file_add_notice(struct ind_alert_file *file, const char *way, const struct ind_notice *notice)
{
    return ind_alert_file_do(file, "INSERT INTO notices VALUES(?1, ?2, ?3, ?4, ?5, ?6)", "ititin",
                             (int64_t)notice->id, way, (int64_t)notice->alert,
                             ind_alert_event_name(notice->event), (int64_t)notice->held, notice->at);
}

bool ind_alert_file_notices(struct ind_alert_file *file,
                            void (*visit)(void *context, const char *way, const struct ind_notice *notice),
                            void *context)
{
    sqlite3_stmt *rows =
        ind_alert_file_ask(file, "SELECT id, way, alert, event, held, at FROM notices ORDER BY id", "");
    int result = SQLITE_DONE;
    while (rows && (result = sqlite3_step(rows)) == SQLITE_ROW) {
        struct ind_notice notice = {.id = (uint64_t)sqlite3_column_int64(rows, 0),
                                    .alert = (uint64_t)sqlite3_column_int64(rows, 2),
                                    .held = sqlite3_column_int(rows, 4) != 0,
                                    .at = ind_alert_file_time(rows, 5)};
        for (int i = 0; i < 4; i++)
            if (strcmp(ind_alert_file_text(rows, 3), ind_alert_event_name((enum ind_alert_event)i)) == 0)
                notice.event = (enum ind_alert_event)i;
        visit(context, ind_alert_file_text(rows, 1), &notice);
    }
    return rows && ind_alert_file_asked(file, rows, result);
}

bool ind_alert_file_told(struct ind_alert_file *file, const char *way, uint64_t upto)
{
    return ind_alert_file_do(file, "DELETE FROM notices WHERE way = ?1 AND id <= ?2", "ti", way,
                             (int64_t)upto);
}

bool ind_alert_file_drop_notice(struct ind_alert_file *file, uint64_t id)
{
    return ind_alert_file_do(file, "DELETE FROM notices WHERE id = ?1", "i", (int64_t)id);
}

uint64_t ind_alert_file_next_notice(struct ind_alert_file *file)
{
    return (uint64_t)ind_alert_file_number(file, "SELECT coalesce(max(seq), 0) + 1 FROM sqlite_sequence", 1);
}
