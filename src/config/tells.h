/* config/tells.h: whom alerts are told. Internal to config/. */
#ifndef IND_CONFIG_TELLS_H
#define IND_CONFIG_TELLS_H

#include "config/load.h"

/* Into rule->tells, kept. */
void ind_load_tells(struct ind_loader *loader, const struct ind_node *value, struct ind_alert_rule *rule);
/* The address of a mail, kept; NULL, reported, where it is none. */
const char *ind_read_mail_address(struct ind_loader *loader, const struct ind_node *value);
/* Once all is read: what mails need. */
void ind_check_mail(struct ind_loader *loader);

#endif
