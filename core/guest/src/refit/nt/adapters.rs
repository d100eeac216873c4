//! The edit `adapters`: addresses of the old adapters are read here, and set on the new ones by the first start, which finds them by
//! their hardware addresses. The identity of a new adapter does not exist before that.

use std::net::Ipv4Addr;

use super::{
    Edits,
    first_start::LOG,
    script::{Script, mac, mask, quoted},
};
use crate::{
    evidence::hardware::AdapterPlace,
    formats::hive::{Data, Hive},
    refit::work::{Changes, Remark},
    system::nt::{ADAPTERS_SCRIPTS, Adapter, BEFORE, FIRST_START_FOLDER, adapters::CLASS, start::boot_sets},
};

/// The first build whose own tool removes devices that are gone.
const REMOVES_DEVICES: u32 = 19041;

/// How an old adapter was found to be one of the new ones.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum By {
    Mac,
    Place,
    Order,
}

impl By {
    fn words(self) -> &'static str {
        match self {
            Self::Mac => "by its hardware address",
            Self::Place => "by its place on PCI",
            Self::Order => "by its order",
        }
    }
}

/// What finds the adapter with the address `MAC`, and waits for it: a driver that was just installed takes its time. A name of a
/// connection holds no comma unless somebody gave it one; such a one is not found, and that is written down. All adapters together are
/// waited for no longer than two minutes.
const FIND: [&str; 9] = [
    ":find",
    "set IFNAME=",
    ":again",
    "for /f \"tokens=1,3 delims=,\" %%A in ('getmac /v /fo csv /nh') do if /i \"%%~B\"==\"%MAC%\" set \"IFNAME=%%~A\"",
    "if defined IFNAME exit /b 0",
    "set /a TRIES+=1",
    "if %TRIES% GEQ 24 exit /b 1",
    "ping -n 6 127.0.0.1 >nul",
    "goto again",
];

impl Edits<'_, '_> {
    #[expect(clippy::indexing_slicing, reason = "the places are those of these adapters")]
    pub(crate) fn adapters(&mut self) -> Changes {
        let hardware = self.work.hardware;
        // What an earlier move left behind is no adapter of this machine, once it was started after that.
        let path = |name: &str| format!("{FIRST_START_FOLDER}/{name}");
        let is_waiting = self.system.tree.exists(path(ADAPTERS_SCRIPTS[0]));
        let is_one = |adapter: &&Adapter| adapter.is_hardware() && (is_waiting || !adapter.name.ends_with(BEFORE));
        let old: Vec<Adapter> = self.system.facts.settings.adapters.iter().filter(is_one).cloned().collect();
        if hardware.unchanged || !self.work.is_first || !old.iter().any(Adapter::is_static) {
            return Ok(Vec::new());
        }
        let pairs = pairs(&old, &hardware.adapters);
        let asks = |index: usize| hardware.rules.dhcp && matches!(pairs.get(index), Some(Some((0, _))));
        let asking: Vec<Adapter> = (0..)
            .zip(&old)
            .filter(|(index, one)| asks(*index) && one.is_static())
            .map(|(_, one)| one.clone())
            .collect();
        let routes = self.system.facts.settings.routes.clone();
        let build = self.target()?.build;
        let mut script = Script::new("Gives the new adapters the settings that the old ones had.");
        script.line("set TRIES=0");
        let (mut changes, mut done) = (Vec::new(), Vec::new());
        for (index, adapter) in old.iter().enumerate().filter(|(index, one)| one.is_static() && !asks(*index)) {
            let Some((place, by)) = pairs[index] else {
                self.work.remarks.push(Remark::AdapterUnknown { name: adapter.name.clone() });
                continue;
            };
            let after = hardware.adapters[place].after.as_deref();
            let Some((own, address)) = after.and_then(|own| Some((own, mac(own)?))) else {
                self.work.remarks.push(Remark::AdapterUnknown { name: adapter.name.clone() });
                continue;
            };
            if by != By::Mac && old.len() > 1 {
                self.work.remarks.push(Remark::AdapterAssumed { name: adapter.name.clone(), mac: own.into() });
            }
            if !write_adapter(&mut script, adapter, &address, done.len(), build) {
                self.work.remarks.push(Remark::AdapterUnknown { name: adapter.name.clone() });
                continue;
            }
            let what = if adapter.addresses.is_empty() {
                adapter.name_servers.join(", ")
            } else {
                adapter.addresses.join(", ")
            };
            changes.push(format!(
                "{}: the first start gives {what} to the adapter with {own}, which was told {}; see {LOG}",
                adapter.name,
                by.words()
            ));
            done.push(adapter.clone());
        }
        for adapter in &asking {
            changes.push(format!(
                "{}: it asks for its address (DHCP); it had {}",
                adapter.name,
                adapter.addresses.join(", ")
            ));
        }
        if done.is_empty() && asking.is_empty() {
            return Ok(Vec::new());
        }
        for route in &routes {
            let parts: Vec<&str> = route.split(',').collect();
            let parsed: Vec<Ipv4Addr> = parts.iter().take(3).filter_map(|part| part.parse().ok()).collect();
            let metric: u32 = parts.get(3).and_then(|metric| metric.parse().ok()).unwrap_or(1);
            if let [destination, mask, gateway] = parsed.as_slice() {
                // One that is there stays; the tool says so, which is no failure.
                script.line(&format!("route -p add {destination} mask {mask} {gateway} metric {metric}"));
            }
        }
        if !done.is_empty() {
            // What a script that did not run yet gives to other adapters, it goes on giving them.
            let name = ADAPTERS_SCRIPTS[usize::from(is_waiting)];
            self.schedule(name, &script.finish_with(&FIND))?;
        }
        changes.extend(self.change("SYSTEM", |hive| {
            for set in boot_sets(hive)? {
                done.iter().try_for_each(|adapter| neutralise(hive, &set, adapter))?;
                asking.iter().try_for_each(|adapter| let_ask(hive, &set, adapter))?;
            }
            Ok(())
        })?);
        Ok(changes)
    }
}

/// For each old adapter the place of the new one that it becomes, and how that was told.
fn pairs(old: &[Adapter], new: &[AdapterPlace]) -> Vec<Option<(usize, By)>> {
    let number = |index: usize| old.get(index).and_then(|adapter| adapter.number.clone());
    let by_mac = |adapter: &Adapter| {
        let own = adapter.mac.as_ref()?;
        new.iter().position(|one| one.before.as_ref().is_some_and(|mac| mac.eq_ignore_ascii_case(own)))
    };
    let told: Vec<Option<usize>> = old.iter().map(by_mac).collect();
    // One address may be that of an adapter of an earlier machine too: the one that came last is this machine's.
    let is_last = |index: usize, place: usize| {
        let same = told.iter().enumerate().filter(|(_, other)| **other == Some(place));
        same.max_by_key(|(index, _)| number(*index)).is_some_and(|(last, _)| last == index)
    };
    let mut pairs: Vec<Option<(usize, By)>> = told
        .iter()
        .enumerate()
        .map(|(index, place)| place.filter(|place| is_last(index, *place)).map(|place| (place, By::Mac)))
        .collect();
    let free: Vec<usize> = (0..new.len()).filter(|place| !told.contains(&Some(*place))).collect();
    // Where a system tells hardware addresses, an adapter that has none of the machine's is one of an earlier machine.
    let is_told = told.iter().any(Option::is_some);
    let mut open: Vec<usize> = old
        .iter()
        .zip(&told)
        .enumerate()
        .filter(|(_, (adapter, place))| place.is_none() && (!is_told || adapter.mac.is_none()))
        .map(|(index, _)| index)
        .collect();
    let place_of = |index: usize| old.get(index).and_then(|adapter| adapter.pci);
    let by = if open.iter().all(|index| place_of(*index).is_some()) { By::Place } else { By::Order };
    open.sort_by_key(|index| (place_of(*index).filter(|_| by == By::Place), number(*index)));
    for (index, place) in open.into_iter().zip(free) {
        if let Some(pair) = pairs.get_mut(index) {
            *pair = Some((place, by));
        }
    }
    pairs
}

/// Writes what gives an adapter its settings; whether all of them can be written.
fn write_adapter(script: &mut Script, adapter: &Adapter, mac: &str, number: usize, build: u32) -> bool {
    let parsed = |text: &String| -> Option<(Ipv4Addr, u32)> {
        let (address, bits) = text.split_once('/')?;
        Some((address.parse().ok()?, bits.parse().ok().filter(|bits| *bits <= 32)?))
    };
    let addresses: Option<Vec<_>> = adapter.addresses.iter().map(parsed).collect();
    let gateways: Option<Vec<Ipv4Addr>> = adapter.gateways.iter().map(|gateway| gateway.parse().ok()).collect();
    let servers: Option<Vec<Ipv4Addr>> = adapter.name_servers.iter().map(|server| server.parse().ok()).collect();
    let (Some(name), Some(addresses), Some(gateways), Some(servers)) =
        (quoted(&adapter.name), addresses, gateways, servers)
    else {
        return false;
    };
    let end = format!("next{number}");
    script.line(&format!("set MAC={mac}")).line("call :find");
    script.line(&format!(
        "if not defined IFNAME (echo FAILED: no adapter has the address {mac}& set FAILED=1& goto {end})"
    ));
    script.line(&format!("echo done: the adapter with {mac} is there"));
    script.line(&format!("if /i \"%IFNAME%\"=={name} goto named{number}"));
    script.line(&format!("netsh interface set interface name=\"%IFNAME%\" newname={name}"));
    let inner = name.trim_matches('"');
    script.line(&format!(
        "if errorlevel 1 (echo FAILED: its name& set FAILED=1) else (echo done: its name& set \"IFNAME={inner}\")"
    ));
    script.line(&format!(":named{number}"));
    let adapter_is = "name=\"%IFNAME%\"";
    for (index, (address, bits)) in addresses.iter().enumerate() {
        let (mask, what) = (mask(*bits), format!("address {address}"));
        let gateway = gateways.first().filter(|_| index == 0).map_or(String::new(), |gateway| {
            let metric: u32 = adapter.gateway_metrics.first().and_then(|metric| metric.parse().ok()).unwrap_or(0);
            format!(" gateway={gateway} gwmetric={metric}")
        });
        let command = match index {
            0 => format!(
                "netsh interface ipv4 set address {adapter_is} source=static address={address} mask={mask}{gateway}"
            ),
            _ => format!("netsh interface ipv4 add address {adapter_is} address={address} mask={mask}"),
        };
        script.step(&what, &command);
    }
    for (index, gateway) in gateways.iter().enumerate().skip(1) {
        let metric: u32 = adapter.gateway_metrics.get(index).and_then(|metric| metric.parse().ok()).unwrap_or(0);
        let command = format!("netsh interface ipv4 add address {adapter_is} gateway={gateway} gwmetric={metric}");
        script.step(&format!("gateway {gateway}"), &command);
    }
    for (index, server) in servers.iter().enumerate() {
        let command = match index {
            0 => format!(
                "netsh interface ipv4 set dnsservers {adapter_is} source=static address={server} register=primary validate=no"
            ),
            _ => format!(
                "netsh interface ipv4 add dnsservers {adapter_is} address={server} index={} validate=no",
                index + 1
            ),
        };
        script.step(&format!("name server {server}"), &command);
    }
    if let Some(metric) = adapter.metric {
        script.step("its metric", &format!("netsh interface ipv4 set interface \"%IFNAME%\" metric={metric}"));
    }
    if let Some(suffix) = adapter.suffix.as_deref().and_then(quoted) {
        let set = "powershell -NoProfile -NonInteractive -Command \"exit (Get-WmiObject Win32_NetworkAdapterConfiguration | Where-Object { $_.MACAddress -eq $env:MAC.Replace('-',':') } | ForEach-Object { $_.SetDNSDomain($env:SUFFIX.Trim([char]34)).ReturnValue })\"";
        script.line(&format!("set SUFFIX={suffix}")).step("its suffix", set);
    }
    for (address, _) in &addresses {
        script.line(&format!("netsh interface ipv4 show addresses \"%IFNAME%\" | find \"{address}\" >nul"));
        script.line(&format!(
            "if errorlevel 1 (echo FAILED: {address} is not on it& set FAILED=1) else (echo holds: {address} is on it)"
        ));
    }
    if let Some(instance) = adapter.instance.as_deref().and_then(quoted).filter(|_| build >= REMOVES_DEVICES) {
        script.line(&format!("pnputil /remove-device {instance}"));
        script.line("if errorlevel 1 (echo left: the old adapter's device) else (echo done: the old adapter's device is removed)");
    }
    script.line(&format!(":{end}"));
    true
}

/// Takes from an old adapter what the new one gets: an address that two adapters have is refused, and so is a name.
fn neutralise(hive: &mut Hive, set: &str, adapter: &Adapter) -> crate::Result<()> {
    let_ask(hive, set, adapter)?;
    let connection = format!("{set}\\Control\\Network\\{CLASS}\\{}\\Connection", adapter.id);
    if hive.find(&connection)?.is_some() {
        hive.set(&connection, "Name", &Data::Text(format!("{}{BEFORE}", adapter.name)))?;
    }
    Ok(())
}

/// Has an adapter ask for its address.
fn let_ask(hive: &mut Hive, set: &str, adapter: &Adapter) -> crate::Result<()> {
    let key = format!("{set}\\Services\\Tcpip\\Parameters\\Interfaces\\{}", adapter.id);
    if hive.find(&key)?.is_none() {
        return Ok(());
    }
    hive.set(&key, "EnableDHCP", &Data::Number(1))?;
    for name in
        ["IPAddress", "SubnetMask", "DefaultGateway", "DefaultGatewayMetric", "NameServer", "Domain", "InterfaceMetric"]
    {
        hive.unset(&key, name)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn old(number: &str, mac: Option<&str>, slot: Option<u32>) -> Adapter {
        Adapter {
            number: Some(number.into()),
            mac: mac.map(Into::into),
            pci: slot.map(|slot| (slot, 0, 0)),
            ..Adapter::default()
        }
    }

    fn new(macs: &[&str]) -> Vec<AdapterPlace> {
        macs.iter().map(|mac| AdapterPlace { before: Some((*mac).into()), ..AdapterPlace::default() }).collect()
    }

    #[test]
    fn old_adapters_become_new_ones_by_address_by_place_or_by_order() {
        let both = new(&["02:00:00:00:00:01", "02:00:00:00:00:02"]);
        let (one, two) = (Some("02:00:00:00:00:01"), Some("02:00:00:00:00:02"));
        let told = pairs(&[old("0001", two, Some(1)), old("0002", one, Some(2))], &both);
        assert_eq!(told, [Some((1, By::Mac)), Some((0, By::Mac))]);
        // The first is of a machine before this one, whose address was kept; the third of one whose address was not.
        let other = Some("02:00:00:00:00:09");
        let told = pairs(&[old("0001", one, None), old("0004", one, None), old("0003", other, None)], &both);
        assert_eq!(told, [None, Some((0, By::Mac)), None]);
        let told = pairs(&[old("0001", None, Some(9)), old("0002", None, Some(3))], &both);
        assert_eq!(told, [Some((1, By::Place)), Some((0, By::Place))]);
        let told = pairs(&[old("0007", None, None), old("0002", None, Some(3)), old("0009", None, None)], &both);
        assert_eq!(told, [Some((1, By::Order)), Some((0, By::Order)), None]);
        assert_eq!(pairs(&[old("0001", one, None)], &[]), [None]);
    }
}
