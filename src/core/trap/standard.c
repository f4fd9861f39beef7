/* The standard traps, and what they carry. */
#include "core/message/names.h"
#include "core/trap/names.h"

enum { DAEMON = 3, AUTH = 4, NONE = -1 };
enum {
    CRITICAL = IND_SEVERITY_CRITICAL,
    ERROR = IND_SEVERITY_ERROR,
    WARNING = IND_SEVERITY_WARNING,
    NOTICE = IND_SEVERITY_NOTICE
};

#define GROUP(oid, name)                                                                                     \
    {                                                                                                        \
        oid, name, NULL, NONE, NONE, true                                                                    \
    }
#define OBJECT(oid, name)                                                                                    \
    {                                                                                                        \
        oid, name, NULL, NONE, NONE, false                                                                   \
    }
#define VALUES(oid, name, values)                                                                            \
    {                                                                                                        \
        oid, name, values, NONE, NONE, false                                                                 \
    }
#define TRAP(oid, name, facility, severity)                                                                  \
    {                                                                                                        \
        oid, name, NULL, facility, severity, false                                                           \
    }

#define STATUS "1=up;2=down;3=testing;4=unknown;5=dormant;6=notPresent;7=lowerLayerDown"
#define NEIGHBOUR "1=down;2=attempt;3=init;4=twoWay;5=exchangeStart;6=exchange;7=loading;8=full"
#define OSPF_INTERFACE                                                                                       \
    "1=down;2=loopback;3=waiting;4=pointToPoint;5=designatedRouter;6=backupDesignatedRouter;"                \
    "7=otherDesignatedRouter"
#define PEER "1=idle;2=connect;3=active;4=opensent;5=openconfirm;6=established"

const struct ind_standard_name ind_standard_names[] = {
    GROUP("0.0", "ccitt"),
    GROUP("1.0", "iso.0"),
    GROUP("1.2", "iso.2"),
    GROUP("1.3", "iso.3"),
    GROUP("1.3.6.1", "internet"), /* RFC 2578 section 2 */
    GROUP("1.3.6.1.2.1", "mib-2"),
    GROUP("1.3.6.1.4.1", "enterprises"),
    GROUP("1.3.6.1.6.3", "snmpModules"),

    /* RFC 3418 */
    TRAP("1.3.6.1.6.3.1.1.5.1", "coldStart", DAEMON, WARNING),
    TRAP("1.3.6.1.6.3.1.1.5.2", "warmStart", DAEMON, WARNING),
    TRAP("1.3.6.1.6.3.1.1.5.3", "linkDown", DAEMON, ERROR), /* RFC 2863 */
    TRAP("1.3.6.1.6.3.1.1.5.4", "linkUp", DAEMON, NOTICE),
    TRAP("1.3.6.1.6.3.1.1.5.5", "authenticationFailure", AUTH, WARNING),
    TRAP("1.3.6.1.6.3.1.1.5.6", "egpNeighborLoss", DAEMON, WARNING), /* RFC 1215 */
    OBJECT("1.3.6.1.6.3.1.1.4.1", "snmpTrapOID"),
    OBJECT("1.3.6.1.6.3.1.1.4.3", "snmpTrapEnterprise"),
    OBJECT("1.3.6.1.2.1.1.1", "sysDescr"),
    OBJECT("1.3.6.1.2.1.1.2", "sysObjectID"),
    OBJECT("1.3.6.1.2.1.1.3", "sysUpTime"),
    OBJECT("1.3.6.1.2.1.1.4", "sysContact"),
    OBJECT("1.3.6.1.2.1.1.5", "sysName"),
    OBJECT("1.3.6.1.2.1.1.6", "sysLocation"),
    OBJECT("1.3.6.1.6.3.18.1.3", "snmpTrapAddress"), /* RFC 3584 */
    OBJECT("1.3.6.1.6.3.18.1.4", "snmpTrapCommunity"),

    /* Interfaces: RFC 2863 */
    OBJECT("1.3.6.1.2.1.2.2.1.1", "ifIndex"),
    OBJECT("1.3.6.1.2.1.2.2.1.2", "ifDescr"),
    OBJECT("1.3.6.1.2.1.2.2.1.3", "ifType"),
    OBJECT("1.3.6.1.2.1.2.2.1.4", "ifMtu"),
    OBJECT("1.3.6.1.2.1.2.2.1.5", "ifSpeed"),
    OBJECT("1.3.6.1.2.1.2.2.1.6", "ifPhysAddress"),
    VALUES("1.3.6.1.2.1.2.2.1.7", "ifAdminStatus", "1=up;2=down;3=testing"),
    VALUES("1.3.6.1.2.1.2.2.1.8", "ifOperStatus", STATUS),
    OBJECT("1.3.6.1.2.1.2.2.1.9", "ifLastChange"),
    OBJECT("1.3.6.1.2.1.2.2.1.14", "ifInErrors"),
    OBJECT("1.3.6.1.2.1.2.2.1.20", "ifOutErrors"),
    OBJECT("1.3.6.1.2.1.31.1.1.1.1", "ifName"),
    OBJECT("1.3.6.1.2.1.31.1.1.1.15", "ifHighSpeed"),
    OBJECT("1.3.6.1.2.1.31.1.1.1.18", "ifAlias"),

    /* OSPF: RFC 4750 */
    OBJECT("1.3.6.1.2.1.14.1.1", "ospfRouterId"),
    OBJECT("1.3.6.1.2.1.14.7.1.1", "ospfIfIpAddress"),
    OBJECT("1.3.6.1.2.1.14.7.1.2", "ospfAddressLessIf"),
    VALUES("1.3.6.1.2.1.14.7.1.12", "ospfIfState", OSPF_INTERFACE),
    OBJECT("1.3.6.1.2.1.14.10.1.1", "ospfNbrIpAddr"),
    OBJECT("1.3.6.1.2.1.14.10.1.2", "ospfNbrAddressLessIndex"),
    OBJECT("1.3.6.1.2.1.14.10.1.3", "ospfNbrRtrId"),
    VALUES("1.3.6.1.2.1.14.10.1.6", "ospfNbrState", NEIGHBOUR),
    OBJECT("1.3.6.1.2.1.14.16.1.1", "ospfSetTrap"),
    OBJECT("1.3.6.1.2.1.14.16.1.2", "ospfConfigErrorType"),
    OBJECT("1.3.6.1.2.1.14.16.1.3", "ospfPacketType"),
    OBJECT("1.3.6.1.2.1.14.16.1.4", "ospfPacketSrc"),
    TRAP("1.3.6.1.2.1.14.16.2.1", "ospfVirtIfStateChange", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.14.16.2.2", "ospfNbrStateChange", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.14.16.2.3", "ospfVirtNbrStateChange", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.14.16.2.4", "ospfIfConfigError", DAEMON, ERROR),
    TRAP("1.3.6.1.2.1.14.16.2.5", "ospfVirtIfConfigError", DAEMON, ERROR),
    TRAP("1.3.6.1.2.1.14.16.2.6", "ospfIfAuthFailure", AUTH, WARNING),
    TRAP("1.3.6.1.2.1.14.16.2.7", "ospfVirtIfAuthFailure", AUTH, WARNING),
    TRAP("1.3.6.1.2.1.14.16.2.8", "ospfIfRxBadPacket", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.14.16.2.9", "ospfVirtIfRxBadPacket", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.14.16.2.10", "ospfTxRetransmit", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.14.16.2.11", "ospfVirtIfTxRetransmit", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.14.16.2.12", "ospfOriginateLsa", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.14.16.2.13", "ospfMaxAgeLsa", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.14.16.2.14", "ospfLsdbOverflow", DAEMON, ERROR),
    TRAP("1.3.6.1.2.1.14.16.2.15", "ospfLsdbApproachingOverflow", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.14.16.2.16", "ospfIfStateChange", DAEMON, WARNING),

    /* BGP: RFC 4273, and the numbers that RFC 1657 had before */
    VALUES("1.3.6.1.2.1.15.3.1.2", "bgpPeerState", PEER),
    OBJECT("1.3.6.1.2.1.15.3.1.7", "bgpPeerRemoteAddr"),
    OBJECT("1.3.6.1.2.1.15.3.1.14", "bgpPeerLastError"),
    TRAP("1.3.6.1.2.1.15.0.1", "bgpEstablishedNotification", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.15.0.2", "bgpBackwardTransNotification", DAEMON, ERROR),
    TRAP("1.3.6.1.2.1.15.7.1", "bgpEstablished", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.15.7.2", "bgpBackwardTransition", DAEMON, ERROR),

    /* Remote monitoring: RFC 2819 */
    OBJECT("1.3.6.1.2.1.16.3.1.1.1", "alarmIndex"),
    OBJECT("1.3.6.1.2.1.16.3.1.1.3", "alarmVariable"),
    VALUES("1.3.6.1.2.1.16.3.1.1.4", "alarmSampleType", "1=absoluteValue;2=deltaValue"),
    OBJECT("1.3.6.1.2.1.16.3.1.1.5", "alarmValue"),
    OBJECT("1.3.6.1.2.1.16.3.1.1.7", "alarmRisingThreshold"),
    OBJECT("1.3.6.1.2.1.16.3.1.1.8", "alarmFallingThreshold"),
    TRAP("1.3.6.1.2.1.16.0.1", "risingAlarm", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.16.0.2", "fallingAlarm", DAEMON, NOTICE),

    /* Bridges: RFC 4188 */
    TRAP("1.3.6.1.2.1.17.0.1", "newRoot", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.17.0.2", "topologyChange", DAEMON, NOTICE),

    /* Uninterruptible power supplies: RFC 1628 */
    VALUES("1.3.6.1.2.1.33.1.2.1", "upsBatteryStatus",
           "1=unknown;2=batteryNormal;3=batteryLow;4=batteryDepleted"),
    OBJECT("1.3.6.1.2.1.33.1.2.2", "upsSecondsOnBattery"),
    OBJECT("1.3.6.1.2.1.33.1.2.3", "upsEstimatedMinutesRemaining"),
    OBJECT("1.3.6.1.2.1.33.1.2.4", "upsEstimatedChargeRemaining"),
    OBJECT("1.3.6.1.2.1.33.1.6.2.1.1", "upsAlarmId"),
    OBJECT("1.3.6.1.2.1.33.1.6.2.1.2", "upsAlarmDescr"),
    OBJECT("1.3.6.1.2.1.33.1.6.2.1.3", "upsAlarmTime"),
    OBJECT("1.3.6.1.2.1.33.1.6.3.1", "upsAlarmBatteryBad"),
    OBJECT("1.3.6.1.2.1.33.1.6.3.2", "upsAlarmOnBattery"),
    OBJECT("1.3.6.1.2.1.33.1.6.3.3", "upsAlarmLowBattery"),
    OBJECT("1.3.6.1.2.1.33.1.6.3.4", "upsAlarmDepletedBattery"),
    OBJECT("1.3.6.1.2.1.33.1.6.3.5", "upsAlarmTempBad"),
    OBJECT("1.3.6.1.2.1.33.1.6.3.6", "upsAlarmInputBad"),
    OBJECT("1.3.6.1.2.1.33.1.6.3.7", "upsAlarmOutputBad"),
    OBJECT("1.3.6.1.2.1.33.1.6.3.8", "upsAlarmOutputOverload"),
    OBJECT("1.3.6.1.2.1.33.1.7.1", "upsTestId"),
    OBJECT("1.3.6.1.2.1.33.1.7.2", "upsTestSpinLock"),
    VALUES("1.3.6.1.2.1.33.1.7.3", "upsTestResultsSummary",
           "1=donePass;2=doneWarning;3=doneError;4=aborted;5=inProgress;6=noTestsInitiated"),
    OBJECT("1.3.6.1.2.1.33.1.7.4", "upsTestResultsDetail"),
    OBJECT("1.3.6.1.2.1.33.1.7.5", "upsTestStartTime"),
    OBJECT("1.3.6.1.2.1.33.1.7.6", "upsTestElapsedTime"),
    OBJECT("1.3.6.1.2.1.33.1.9.7", "upsConfigLowBattTime"),
    TRAP("1.3.6.1.2.1.33.2.1", "upsTrapOnBattery", DAEMON, CRITICAL),
    TRAP("1.3.6.1.2.1.33.2.2", "upsTrapTestCompleted", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.33.2.3", "upsTrapAlarmEntryAdded", DAEMON, ERROR),
    TRAP("1.3.6.1.2.1.33.2.4", "upsTrapAlarmEntryRemoved", DAEMON, NOTICE),

    /* Printers: RFC 3805 */
    TRAP("1.3.6.1.2.1.43.18.2.0.1", "printerV2Alert", DAEMON, WARNING),

    /* Entities and their sensors: RFC 6933, RFC 3433 */
    OBJECT("1.3.6.1.2.1.47.1.1.1.1.2", "entPhysicalDescr"),
    OBJECT("1.3.6.1.2.1.47.1.1.1.1.7", "entPhysicalName"),
    TRAP("1.3.6.1.2.1.47.2.0.1", "entConfigChange", DAEMON, NOTICE),
    OBJECT("1.3.6.1.2.1.99.1.1.1.4", "entPhySensorValue"),
    VALUES("1.3.6.1.2.1.99.1.1.1.5", "entPhySensorOperStatus", "1=ok;2=unavailable;3=nonoperational"),

    /* Routers that stand in for one another: RFC 2787 */
    OBJECT("1.3.6.1.2.1.68.1.3.1.7", "vrrpOperMasterIpAddr"),
    OBJECT("1.3.6.1.2.1.68.1.5", "vrrpTrapPacketSrc"),
    VALUES("1.3.6.1.2.1.68.1.6", "vrrpTrapAuthErrorType",
           "1=invalidAuthType;2=authTypeMismatch;3=authFailure"),
    TRAP("1.3.6.1.2.1.68.0.1", "vrrpTrapNewMaster", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.68.0.2", "vrrpTrapAuthFailure", AUTH, WARNING),

    /* What watches expressions: RFC 2981 */
    OBJECT("1.3.6.1.2.1.88.2.1.1", "mteHotTrigger"),
    OBJECT("1.3.6.1.2.1.88.2.1.2", "mteHotTargetName"),
    OBJECT("1.3.6.1.2.1.88.2.1.3", "mteHotContextName"),
    OBJECT("1.3.6.1.2.1.88.2.1.4", "mteHotOID"),
    OBJECT("1.3.6.1.2.1.88.2.1.5", "mteHotValue"),
    OBJECT("1.3.6.1.2.1.88.2.1.6", "mteFailedReason"),
    TRAP("1.3.6.1.2.1.88.2.0.1", "mteTriggerFired", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.88.2.0.2", "mteTriggerRising", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.88.2.0.3", "mteTriggerFalling", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.88.2.0.4", "mteTriggerFailure", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.88.2.0.5", "mteEventSetFailure", DAEMON, WARNING),

    /* Power over Ethernet: RFC 3621 */
    VALUES("1.3.6.1.2.1.105.1.1.1.6", "pethPsePortDetectionStatus",
           "1=disabled;2=searching;3=deliveringPower;4=fault;5=test;6=otherFault"),
    OBJECT("1.3.6.1.2.1.105.1.3.1.1.4", "pethMainPseConsumptionPower"),
    TRAP("1.3.6.1.2.1.105.0.1", "pethPsePortOnOffNotification", DAEMON, NOTICE),
    TRAP("1.3.6.1.2.1.105.0.2", "pethMainPowerUsageOnNotification", DAEMON, WARNING),
    TRAP("1.3.6.1.2.1.105.0.3", "pethMainPowerUsageOffNotification", DAEMON, NOTICE),

    /* Neighbours on the wire: IEEE 802.1AB */
    TRAP("1.0.8802.1.1.2.0.0.1", "lldpRemTablesChange", DAEMON, NOTICE),
};
const size_t ind_standard_name_count = sizeof ind_standard_names / sizeof *ind_standard_names;
