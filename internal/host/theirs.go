package host

import (
	"fmt"
	"os/user"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/launch"
	"freshkeel/internal/tree"
)

// Root starts, stops, reads and writes the unit of a user whom a command has become: one that runs
// that user's own program, with no more rights than the user has. So root does nothing by it that the
// user could not have done with the same program, but to whom the manager listens.

// theirs looks whether a unit is a user's, whose install is the folder at dir or, without links,
// at real.
func theirs(u *Unit, o Owner, dir, real string) error {
	if !u.Known {
		return fmt.Errorf("the service %s: %s", u.Name, u.Why)
	}
	not := func(format string, a ...any) error {
		return fmt.Errorf("the service %s %s: root does not touch it for %s, to whom %s belongs", u.Name,
			fmt.Sprintf(format, a...), o.Name, dir)
	}
	if u.Owner != strconv.Itoa(o.UID) && u.Owner != o.Name {
		return not("runs as %q (User=)", u.Owner)
	}
	for _, g := range u.Groups {
		if !o.inGroup(g) {
			return not("has the group %s, and %s has not (Group=, SupplementaryGroups=)", g, o.Name)
		}
	}
	if u.Gives != "" {
		return not("may give its program a right that %s has not (%s)", o.Name, u.Gives)
	}
	if len(u.Lines) == 0 {
		return not("runs nothing (ExecStart=)")
	}
	for _, line := range u.Lines {
		if err := ownLine(line, u.Dir, dir, real); err != nil {
			return not("%v (ExecStart=)", err) // the error is a predicate
		}
	}
	return nil
}

// ownLine looks whether the program of a line is a file of an install.
func ownLine(line []string, from, dir, real string) error {
	own, err := launch.Own(line, from)
	if err != nil {
		return err
	}
	for _, at := range own {
		if !tree.Inside(dir, at) && !tree.Inside(real, at) {
			return fmt.Errorf("runs %s, which is no file of %s", at, dir)
		}
	}
	return nil
}

// byHand is how root does by its own hands what was refused.
func byHand(do, unit string) string {
	switch do {
	case "start":
		return "sudo systemctl start " + unit
	case "stop", "kill", "may":
		return "sudo systemctl stop " + unit
	case "start bound":
		return "systemctl list-dependencies --reverse " + unit + ", and sudo systemctl start what was active"
	case "write", "may write", "guard", "may guard", "unguard":
		return "sudo systemctl edit " + unit
	}
	return "sudo journalctl -u " + unit
}

// inGroup tells whether a user is in a group, by its name or number.
func (o Owner) inGroup(group string) bool {
	return slices.ContainsFunc(o.Groups, func(g int) bool {
		named, err := user.LookupGroupId(strconv.Itoa(g))
		return group == strconv.Itoa(g) || (err == nil && group == named.Name)
	})
}

// plainRights are the properties of a unit that give its program no right, whatever they are: what the
// manager says of its state, when it runs, limits, what it may see less of. All others must say
// nothing (systemd.exec(5), systemd.service(5), systemd.unit(5), org.freedesktop.systemd1(5), versions
// 247 to 258).
var plainRights = func() map[string]bool {
	out := map[string]bool{}
	for name := range strings.FieldsSeq(plainWords) {
		out[name] = true
	}
	return out
}()

const plainWords = `
AccessSELinuxContext ActivationDetails ActiveEnterTimestamp ActiveEnterTimestampMonotonic ActiveExitTimestamp
ActiveExitTimestampMonotonic ActiveState After AllowIsolate AllowedCPUs AllowedMemoryNodes AssertResult AssertTimestamp
AssertTimestampMonotonic Asserts Before BindNetworkInterface BindsTo BlockIOAccounting BlockIODeviceWeight
BlockIOReadBandwidth BlockIOWeight BlockIOWriteBandwidth BoundBy BusName CPUAccounting CPUAffinity CPUAffinityFromNUMA
CPUQuotaPerSecUSec CPUQuotaPeriodUSec CPUSchedulingPolicy CPUSchedulingPriority CPUSchedulingResetOnFork CPUShares
CPUUsageNSec CPUWeight CacheDirectory CacheDirectoryMode CacheDirectorySymlink CanClean CanFreeze CanIsolate CanLiveMount
CanReload CanStart CanStop CapabilityBoundingSet CleanResult CollectMode ConditionResult ConditionTimestamp
ConditionTimestampMonotonic Conditions ConfigurationDirectory ConfigurationDirectoryMode ConflictedBy Conflicts ConsistsOf
ControlGroup ControlGroupId ControlPID CoredumpFilter CoredumpReceive DebugInvocation DefaultDependencies
DefaultMemoryLow DefaultMemoryMin DefaultStartupMemoryLow Description DeviceAllow DevicePolicy DisableControllers
Documentation DropInPaths EffectiveCPUs EffectiveMemoryHigh EffectiveMemoryMax EffectiveMemoryNodes EffectiveTasksMax
Environment EnvironmentFiles ExecCondition ExecMainCode ExecMainExitTimestamp ExecMainExitTimestampMonotonic
ExecMainHandoffTimestamp ExecMainHandoffTimestampMonotonic ExecMainPID ExecMainStartTimestamp
ExecMainStartTimestampMonotonic ExecMainStatus ExecPaths ExecReload ExecReloadPost ExecSearchPath ExecStart ExecStartPost
ExecStartPre ExecStop ExecStopPost ExitType ExtensionImagePolicy FailureAction FailureActionExitStatus
FileDescriptorStoreMax FileDescriptorStorePreserve FinalKillSignal Following FragmentPath FreezerState GID Group
GuessMainPID IOAccounting IODeviceLatencyTargetUSec IODeviceWeight IOReadBandwidthMax IOReadBytes IOReadIOPSMax
IOReadOperations IOSchedulingClass IOSchedulingPriority IOWeight IOWriteBandwidthMax IOWriteBytes IOWriteIOPSMax
IOWriteOperations IPAccounting IPAddressAllow IPAddressDeny IPEgressBytes IPEgressFilterPath IPEgressPackets
IPIngressBytes IPIngressFilterPath IPIngressPackets Id IgnoreOnIsolate IgnoreSIGPIPE InaccessiblePaths
InactiveEnterTimestamp InactiveEnterTimestampMonotonic InactiveExitTimestamp InactiveExitTimestampMonotonic InvocationID
Job JobRunningTimeoutUSec JobTimeoutAction JobTimeoutRebootArgument JobTimeoutUSec KeyringMode KillMode KillSignal
LimitAS LimitASSoft LimitCORE LimitCORESoft LimitCPU LimitCPUSoft LimitDATA LimitDATASoft LimitFSIZE LimitFSIZESoft
LimitLOCKS LimitLOCKSSoft LimitMEMLOCK LimitMEMLOCKSoft LimitMSGQUEUE LimitMSGQUEUESoft LimitNICE LimitNICESoft
LimitNOFILE LimitNOFILESoft LimitNPROC LimitNPROCSoft LimitRSS LimitRSSSoft LimitRTPRIO LimitRTPRIOSoft LimitRTTIME
LimitRTTIMESoft LimitSIGPENDING LimitSIGPENDINGSoft LimitSTACK LimitSTACKSoft LiveMountResult LoadError LoadState
LockPersonality LogExtraFields LogLevelMax LogNamespace LogRateLimitBurst LogRateLimitIntervalUSec LogsDirectory
LogsDirectoryMode LogsDirectorySymlink MainPID ManagedOOMMemoryPressure ManagedOOMMemoryPressureDurationUSec
ManagedOOMMemoryPressureLimit ManagedOOMPreference ManagedOOMSwap Markers MemoryAccounting MemoryAvailable
MemoryCurrent MemoryDenyWriteExecute MemoryHigh MemoryKSM MemoryLimit MemoryLow MemoryMax MemoryMin MemoryPeak
MemoryPressureThresholdUSec MemoryPressureWatch MemorySwapCurrent MemorySwapMax MemorySwapPeak MemoryZSwapCurrent
MemoryZSwapMax MemoryZSwapWriteback MountAPIVFS MountFlags MountImagePolicy NFTSet NFileDescriptorStore NRestarts
NUMAMask NUMAPolicy Names NeedDaemonReload Nice NoExecPaths NoNewPrivileges NonBlocking NotifyAccess OOMKills OOMPolicy
OOMScoreAdjust OnFailure OnFailureJobMode OnFailureOf OnSuccess OnSuccessJobMode OnSuccessOf PIDFile PartOf
PassEnvironment Perpetual Personality PrivateBPF PrivateDevices PrivateIPC PrivateMounts PrivateNetwork PrivatePIDs
PrivateTmp PrivateTmpEx PrivateUsers PrivateUsersEx ProcSubset PropagatesReloadTo PropagatesStopTo ProtectClock
ProtectControlGroups ProtectControlGroupsEx ProtectHome ProtectHostname ProtectHostnameEx ProtectKernelLogs
ProtectKernelModules ProtectKernelTunables ProtectProc ProtectSystem ReadOnlyPaths ReadWritePaths RebootArgument Refs
RefuseManualStart RefuseManualStop ReloadPropagatedFrom ReloadResult ReloadSignal RemainAfterExit RemoveIPC
RequiredBy Requires RequiresMountsFor Requisite RequisiteOf Restart RestartForceExitStatus
RestartKillSignal RestartMaxDelayUSec RestartMode RestartPreventExitStatus RestartSteps RestartUSec RestartUSecNext
RestrictAddressFamilies RestrictFileSystems RestrictNamespaces RestrictNetworkInterfaces RestrictRealtime
RestrictSUIDSGID Result RootDirectoryStartOnly RootImagePolicy RuntimeDirectory RuntimeDirectoryMode
RuntimeDirectoryPreserve RuntimeDirectorySymlink RuntimeMaxUSec RuntimeRandomizedExtraUSec SameProcessGroup SendSIGHUP
SendSIGKILL SetLoginEnvironment Slice SliceOf SocketBindAllow SocketBindDeny SourcePath StandardError
StandardErrorFileDescriptorName StandardInput StandardInputData StandardInputFileDescriptorName StandardOutput
StandardOutputFileDescriptorName StartLimitAction StartLimitBurst StartLimitIntervalUSec StartupAllowedCPUs
StartupAllowedMemoryNodes StartupBlockIOWeight StartupCPUShares StartupCPUWeight StartupIOWeight StartupMemoryHigh
StartupMemoryLow StartupMemoryMax StartupMemorySwapMax StartupMemoryZSwapMax StateChangeTimestamp
StateChangeTimestampMonotonic StateDirectory StateDirectoryMode StateDirectorySymlink StatusBusError StatusErrno
StatusText StatusVarlinkError StopPropagatedFrom StopWhenUnneeded SubState SuccessAction SuccessActionExitStatus
SuccessExitStatus SupplementaryGroups SurviveFinalKillSignal SyslogFacility SyslogIdentifier SyslogLevel
SyslogLevelPrefix SyslogPriority SystemCallArchitectures SystemCallErrorNumber SystemCallFilter SystemCallLog TTYColumns
TTYPath TTYReset TTYRows TTYVHangup TTYVTDisallocate TasksAccounting TasksCurrent TasksMax TemporaryFileSystem
TimeoutAbortUSec TimeoutCleanUSec TimeoutStartFailureMode TimeoutStartUSec TimeoutStopFailureMode TimeoutStopUSec
TimerSlackNSec Transient TriggeredBy Triggers Type UID UMask USBFunctionDescriptors USBFunctionStrings UnitFilePreset
UnitFileState UnsetEnvironment UpheldBy Upholds User UtmpIdentifier UtmpMode WantedBy Wants WantsMountsFor
WatchdogSignal WatchdogTimestamp WatchdogTimestampMonotonic WatchdogUSec WorkingDirectory`

// gives names the first property of a unit that could give its program a right; "" for none.
func gives(p map[string]any) string {
	names := make([]string, 0, len(p))
	for name := range p {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if rows, is := p[name].([][]any); is && strings.HasPrefix(name, "Exec") && strings.HasSuffix(name, "Ex") {
			if flag := prefixed(rows); flag != "" {
				return strings.TrimSuffix(name, "Ex") + "= with the rule " + flag
			}
			continue
		}
		if !plainRights[name] && !saysNothing(p[name]) {
			return name + "="
		}
	}
	return ""
}

// prefixed is the first rule of a command that is more than that its failure, or its variables, do
// not count.
func prefixed(rows [][]any) string {
	for _, row := range rows {
		flags, _ := row[min(2, len(row)-1)].([]string)
		for _, f := range flags {
			if f != "ignore-failure" && f != "no-env-expand" {
				return f
			}
		}
	}
	return ""
}

// saysNothing tells whether a property has the value of one that nobody set.
func saysNothing(v any) bool {
	switch v := v.(type) {
	case nil:
		return true
	case bool:
		return !v
	case string:
		return v == "" || v == "no"
	case int32:
		return v == 0
	case uint32:
		return v == 0
	case uint64:
		return v == 0 || v == ^uint64(0)
	case []string:
		return len(v) == 0
	case []byte:
		return len(v) == 0
	case [][]any:
		return len(v) == 0
	case []any: // of several values: each
		return !slices.ContainsFunc(v, func(one any) bool { return !saysNothing(one) })
	}
	return false
}
