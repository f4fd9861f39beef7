#include "cli/demo_config.h"

#include "cli/cli.h"
#include <errno.h>

static const char configuration[] =
    "store: log\n"
    "state: state\n"
    "zone: Europe/Lisbon\n"
    "domain: skerry.example\n"
    "listen:\n"
    "  - udp: 127.0.0.1:0          # any free port: this is a demo\n"
    "  - tcp: 127.0.0.1:0\n"
    "devices:\n"
    "  - {name: harbour-fw, address: 127.0.2.9, zone: Atlantic/Faroe, labels: {site: harbour}}\n"
    "  - {name: hq-dhcp, address: 127.0.2.21}\n"
    "  - {name: hq-mail, address: 127.0.2.25}\n"
    "  - {name: pier1-rtr, address: 127.0.11.1}\n"
    "  - {name: pier2-rtr, address: 127.0.12.1}\n"
    "  - {name: pier3-sw1, address: 127.0.13.1}\n"
    "  - {name: pier3-sw2, address: 127.0.13.2}\n"
    "  - {name: pier4-sw1, address: 127.0.14.1}\n"
    "  - {name: mv-tern-rtr, address: 127.0.21.1}\n"
    "  - {name: mv-tern-ap1, address: 127.0.21.11}\n"
    "  - {name: mv-auk-ap1, address: 127.0.22.11}\n"
    "patterns:\n"
    "  - name: login-failed\n"
    "    app: sshd\n"
    "    text:\n"
    "      - layout: \"Failed password for {user:word} from {peer:ip} port {port:int} ssh2\"\n"
    "        example: \"Failed password for tern from 203.0.113.7 port 4022 ssh2\"\n"
    "        gives: {user: tern, peer: 203.0.113.7, port: 4022}\n"
    "      - \"Failed password for invalid user {user:word} from {peer:ip} port {port:int} ssh2\"\n"
    "  - name: link-state\n"
    "    text:\n"
    "      - \"{interface:interface} ({description:text}) link {state:word}\"\n"
    "      - \"{interface:interface} ({description:text}) link {state:word}, {speed:text}\"\n"
    "conditions:\n"
    "  trouble: severity at least warning\n"
    "  probe: 'field DPT in (\"22\", \"23\", \"3389\") and field SRC within 198.51.100.0/24'\n";

static const char edits[] =
    "edits:                      # in this order, before the routes\n"
    "  - name: hide-people       # stars, as many as there were characters\n"
    "    mask: [phone, email]\n"
    "  - name: ships\n"
    "    when: device starts with \"mv-\"\n"
    "    label: {place: on board}\n"
    "  - name: lease-chatter     # nobody ever looked at these\n"
    "    when: 'app is \"dhcpd\" and severity is info and not text contains \"DHCPACK\"'\n"
    "    drop: yes\n"
    "  - name: heat-and-light    # what the switches call critical is worse than that\n"
    "    when: app is \"envd\" and severity is critical\n"
    "    set: {severity: alert}\n"
    "  - name: mail-numbers\n"
    "    when: app is \"smtpd\"\n"
    "    forget: [procid, msgid]\n"
    "  - name: tern-clock        # its clock keeps the time of another port\n"
    "    when: 'device starts with \"mv-tern\" and app is \"ntpd\"'\n"
    "    time: {zone: \"-05:00\"}\n"
    "  - name: few-accepts       # one in five tells enough\n"
    "    when: text starts with \"ACCEPT\" or text starts with \"PERMIT\"\n"
    "    thin: one in 5\n"
    "  - name: flapping          # the same again within two minutes is counted, and reported once\n"
    "    when: app is \"linkd\"\n"
    "    repeat: 2 min\n"
    "  - name: guessing          # of each device\n"
    "    when: pattern is \"login-failed\"\n"
    "    limit: 10 a minute\n";

static const char routes[] = "routes:\n"
                             "  - name: probes              # by fields of the firewall's messages\n"
                             "    when: probe\n"
                             "    file: probes.log\n"
                             "  - name: guesses             # by fields of a pattern\n"
                             "    when: pattern is \"login-failed\"\n"
                             "    file: \"guesses/{field peer}.log\"\n"
                             "    archive: evidence       # may have to be proven untouched\n"
                             "    last: yes\n"
                             "  - name: trouble-by-device   # what needs eyes, a file for each device\n"
                             "    when: trouble\n"
                             "    file: \"trouble/{device}.log\"\n"
                             "    last: yes\n"
                             "  - name: everything\n"
                             "    file: \"{facility}/{severity}.log\"\n"
                             "archives:\n"
                             "  default: {rotate: every day, keep: 30 days, compress: zstd}\n"
                             "  evidence: {rotate: every day, keep: 1 year, compress: zstd, chain: yes}\n";

static const char alerts[] = "alerts:                     # they stay open until somebody has seen to them\n"
                             "  - name: guessing\n"
                             "    when: pattern is \"login-failed\"\n"
                             "    more than: 5 in 5 min\n"
                             "    by: field peer\n"
                             "  - name: link-down\n"
                             "    when: pattern is \"link-state\" and field state is \"down\"\n"
                             "    over: {when: pattern is \"link-state\" and field state is \"up\"}\n"
                             "    by: [device, field interface]\n"
                             "  - name: overheated\n"
                             "    when: app is \"envd\" and severity at least alert\n"
                             "    by: device\n";

bool ind_demo_config_write(const char *path, bool with_edits)
{
    FILE *file = fopen(path, "w");
    if (!file || fprintf(file, "%s%s%s%s", configuration, with_edits ? edits : "", routes, alerts) < 0 ||
        fclose(file) != 0) {
        ind_complain("cannot write %s: %s", path, strerror(errno));
        return false;
    }
    return true;
}

void ind_demo_routes_print(void)
{
    const char *end = strstr(routes, "archives:");
    printf("%.*s", (int)(end - routes), routes);
}
