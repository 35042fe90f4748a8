"""Made-up heaters of other kinds than two masses in a row: chains of nodes, radiation, a sensor
with two lags. They run on the same lanes, under the same loop and tests.

    node i       C_i dT_i/dt = P u(t − dead) [i = 0] + Σ G (T_j − T_i) − loss_i(T_i)
    losses       loss_i(T) = h_i (T − Ta) (1 + growth (T − Ta)) + r_i ((T + 273)⁴ − (Ta + 273)⁴)
                 + c_i (T − Ta)^1.25 (free convection)
    sensor       lag dS/dt = T_seen − S, or two such lags one behind the other
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from omphalon.standin.heater import STEP_S, Lanes

KELVIN = 273.15


@dataclass(frozen=True)
class Chain:
    """Nodes in a row. Powers in W, capacities in J/°C, conductances in W/°C (`coupling_w_c[i]` from
    node i to the next), radiation in W/K⁴; the sensor sits at `seen` and has `lags_s`; the fan adds
    its share to all losses. `convection` is in W/°C^1.25, none where it is empty.
    """

    power_w: float
    capacity_j_c: tuple[float, ...]
    coupling_w_c: tuple[float, ...]
    loss_w_c: tuple[float, ...]
    growth_per_c: float
    radiation_w_k4: tuple[float, ...]
    seen: int
    lags_s: tuple[float, ...]
    dead_time_s: float
    ambient_c: float = 23.0
    fan_extra: float = 0.4
    noise_c: float = 0.05
    quantum_c: float = 0.05
    convection: tuple[float, ...] = ()

    def other_day(self, dead_time: float, power: float) -> Chain:
        """The same heater on another day: dead time and power scaled."""
        return replace(self, dead_time_s=self.dead_time_s * dead_time, power_w=self.power_w * power)

    def holds_c(self, duty: float) -> float:
        """The temperature that a steady power share holds at the sensor's node, the fan on."""
        from scipy.optimize import root

        loss, shine = np.array(self.loss_w_c), np.array(self.radiation_w_k4)
        free = np.array(self.convection or (0.0,) * len(loss))

        def gained(nodes: np.ndarray) -> np.ndarray:
            over = nodes - self.ambient_c
            lost = loss * over * (1 + self.growth_per_c * over)
            lost += shine * ((nodes + KELVIN) ** 4 - (self.ambient_c + KELVIN) ** 4)
            lost += free * np.maximum(over, 0.0) ** 1.25
            flow = np.array(self.coupling_w_c) * (nodes[:-1] - nodes[1:])
            heat = -lost * (1 + self.fan_extra)
            heat[0] += self.power_w * duty
            heat[:-1] -= flow
            heat[1:] += flow
            return heat

        return float(root(gained, np.full(len(loss), 200.0)).x[self.seen])

    @staticmethod
    def lanes(heaters, copies, step_s):
        """Heaters of this kind side by side."""
        return ChainLanes(heaters, copies, step_s)


class ChainLanes(Lanes):
    """Chains of one length side by side, advanced together; `shape` is (heaters, copies)."""

    def __init__(self, chains: list[Chain], copies: int, step_s: float = STEP_S) -> None:
        def column(values: list[float]) -> np.ndarray:
            return np.array(values, float)[:, None]

        def each(name: str) -> list[np.ndarray]:
            return [column(list(v)) for v in zip(*(getattr(c, name) for c in chains), strict=True)]

        self.step_s, self.shape = step_s, (len(chains), copies)
        self.ambient = column([c.ambient_c for c in chains])
        self.power = column([c.power_w for c in chains])
        self.growth = column([c.growth_per_c for c in chains])
        self.extra = column([c.fan_extra for c in chains])
        self.capacity, self.coupling = each("capacity_j_c"), each("coupling_w_c")
        self.loss, self.radiation = each("loss_w_c"), each("radiation_w_k4")
        self.into = [1.0 - np.exp(-step_s / np.maximum(lag, 1e-3)) for lag in each("lags_s")]
        self.free = each("convection")
        self.seen = [c.seen for c in chains]
        self.nodes = [self._ambient() for _ in self.capacity]
        self.lagged = [self._ambient() for _ in self.into]
        self.sensor = self.lagged[-1]
        self.fan = False
        self._delay([c.dead_time_s for c in chains])

    def _ambient(self) -> np.ndarray:
        return np.broadcast_to(self.ambient, self.shape).copy()

    def advance(self, power: np.ndarray | float) -> None:
        arrived = self._arrived(power)
        last = len(self.nodes) - 1
        flows = [
            g * (a - b) for g, a, b in zip(self.coupling, self.nodes, self.nodes[1:], strict=False)
        ]
        heat = []
        for n, node in enumerate(self.nodes):
            over = node - self.ambient
            lost = self.loss[n] * over * (1 + self.growth * over)
            lost = lost + self.radiation[n] * ((node + KELVIN) ** 4 - (self.ambient + KELVIN) ** 4)
            if self.free:
                lost = lost + self.free[n] * np.maximum(over, 0.0) ** 1.25
            lost = lost * (1 + self.extra) if self.fan else lost
            gained = (self.power * arrived if n == 0 else flows[n - 1]) - lost
            heat.append(gained - flows[n] if n < last else gained)
        row = np.arange(self.shape[0])
        read = np.stack(self.nodes)[self.seen, row]
        for n, gained in enumerate(heat):
            self.nodes[n] += self.step_s / self.capacity[n] * gained
        for n, blend in enumerate(self.into):
            self.lagged[n] += blend * (read - self.lagged[n])
            read = self.lagged[n]
        self.now += 1

    def take(self, other: Lanes, rows: np.ndarray) -> None:
        assert isinstance(other, ChainLanes)
        for mine, theirs in zip(
            (*self.nodes, *self.lagged), (*other.nodes, *other.lagged), strict=True
        ):
            mine[rows] = theirs[rows]
        self._take_past(other, rows)
