"""Pruning whole channels of a trained cnn.

The importance of a channel is the sum of the absolute weights that compute it, normalization included, relative to
its layer: Li et al., "Pruning Filters for Efficient ConvNets", ICLR 2017. Channels that are added, as around a
residual block, are pruned together.
"""

import bisect
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from barn_owl.classifiers.cnn import Convolutional
from barn_owl.errors import ModelError
from barn_owl.network import BatchNorm, Layer, Network
from barn_owl.network.architecture import NetworkSettings, layers_for

MIN_CHANNELS = 4
"""Fewest channels of a layer: with fewer it would be a bottleneck."""
FINENESS = 401
"""Number of shares of the channels that are tried, from none to all."""


@dataclass(eq=False)
class Group:
    """Channels of several layers that must be pruned together.

    producers : names of the convolutions that compute the channels, each with the name of the normalization behind.
    followers : names of depthwise convolutions and normalizations applied per channel. consumers : names of the
    layers that take the channels as input.
    """

    size: int
    producers: list[tuple[str, str]] = field(default_factory=list)
    followers: list[str] = field(default_factory=list)
    consumers: list[str] = field(default_factory=list)
    joined: "Group | None" = None

    def root(self) -> "Group":
        """Return the group that this group was joined to, or itself."""
        return self if self.joined is None else self.joined.root()


def pruned(classifier: Convolutional, share: float) -> Convolutional:
    """Return a smaller classifier that keeps at most `share` of the weights of each network, 0 to 1.

    Raises ModelError for a share that would leave fewer than `MIN_CHANNELS` in a layer.
    """
    layers, kept = [], []
    for number, network in enumerate(classifier.networks):
        single, groups = classifier.part(number), _groups(network)
        kept.append(_counts(single, network, groups, share))
        layers += _smaller(single, groups, kept[-1]).settings.layers
    smaller = _untrained(classifier, classifier.settings.model_copy(update={"layers": layers}))
    for network, counts, into in zip(classifier.networks, kept, smaller.networks, strict=True):
        _copy_weights(network, _groups(network), counts, into)
    return smaller


def _groups(network: Network) -> list[Group]:
    found: list[Group] = []
    outputs = _walk(network.layers, "", None, found)  # all outputs stay
    return [group for group in found if group.joined is None and group is not outputs]


def _walk(layers: Sequence[Layer], prefix: str, group: Group | None, found: list[Group]) -> Group | None:
    """Walk through layers with `group` as input channels; return the output channels."""
    for number, layer in enumerate(layers):
        name = f"{prefix}{number}"
        if layer.inner:
            inner = _walk(layer.inner, f"{name}.", group, found)
            if group is not None and inner is not None:
                _join(group.root(), inner.root())
        elif layer.channel_role == "follows":
            if group is not None:
                group.root().followers.append(name)
        elif layer.channel_role == "makes":
            if group is not None:
                group.root().consumers.append(name)
            norm = f"{prefix}{number + 1}" if isinstance(layers[min(number + 1, len(layers) - 1)], BatchNorm) else ""
            group = Group(layer.channels or 0, [(name, norm)])
            found.append(group)
    return group


def _join(one: Group, other: Group) -> None:
    if one is other:
        return
    one.producers += other.producers
    one.followers += other.followers
    one.consumers += other.consumers
    other.joined = one


def _importance(network: Network, group: Group) -> np.ndarray:
    """Return the relative importance of each channel of a group, ``(channels,)``."""
    arrays, total = network.state(), np.zeros(group.size)
    for name, norm in group.producers:
        weights = np.abs(arrays[f"{name}.kernel"]).sum(axis=0, dtype=np.float64)
        if norm:
            weights *= np.abs(arrays[f"{norm}.scale"]) / np.sqrt(arrays[f"{norm}.variance"] + BatchNorm.EPSILON)
        total += weights
    return np.asarray(total / max(float(np.sqrt(np.mean(total**2))), 1e-12))


def _counts(classifier: Convolutional, network: Network, groups: list[Group], share: float) -> list[int]:
    """Return the channels that each group keeps: the largest common share within the wanted number of weights."""
    wanted = share * len(network.vector)

    def kept(of_channels: float) -> list[int]:
        return [min(group.size, max(MIN_CHANNELS, round(of_channels * group.size))) for group in groups]

    def size(counts: list[int]) -> int:
        return len(_smaller(classifier, groups, counts).networks[0].vector)

    if size(kept(0.0)) > wanted:
        smallest = size(kept(0.0)) / len(network.vector)
        raise ModelError(
            f"no more than {1 - smallest:.0%} of the weights can be taken out of this network, "
            f"{1 - share:.0%} are requested"
        )
    shares = np.linspace(0, 1, FINENESS)
    return kept(
        float(shares[bisect.bisect_right(shares, wanted, key=lambda of_channels: size(kept(of_channels))) - 1])
    )


def _kept_channels(network: Network, group: Group, count: int) -> np.ndarray:
    """Numbers of the channels that are kept, in order."""
    return np.sort(np.argsort(-_importance(network, group), kind="stable")[:count])


def _smaller(classifier: Convolutional, groups: list[Group], counts: list[int]) -> Convolutional:
    """Return an untrained classifier with a single network whose groups have this many channels."""
    layers = _settings(classifier, groups, counts)
    return _untrained(classifier, NetworkSettings(**{**classifier.settings.model_dump(), "layers": layers}))


def _untrained(classifier: Convolutional, settings: NetworkSettings) -> Convolutional:
    """Return an untrained classifier with different networks for the same labels."""
    bands = classifier.networks[0].shapes[0][1]
    rng = np.random.default_rng(0)
    return Convolutional(bands, classifier.labels, settings, classifier.level, rng, multilabel=classifier.multilabel)


def _settings(classifier: Convolutional, groups: list[Group], counts: list[int]) -> list[dict[str, object]]:
    """The layers of a plan, with fewer channels; names count the level in front, as a network's do."""
    sizes = {
        name: count for group, count in zip(groups, counts, strict=True) for name, _ in group.producers
    }  # fmt: skip
    first = 1 if classifier.level.frames else 0
    return [layer.entry(sizes, f"{number}") for number, layer in enumerate(layers_for(classifier.settings, 0), first)]


def _copy_weights(network: Network, groups: list[Group], counts: list[int], into: Network) -> None:
    """Copy the remaining weights of a network into the smaller network."""
    arrays = {name: array.copy() for name, array in network.state().items()}
    for group, count in zip(groups, counts, strict=True):
        chosen = _kept_channels(network, group, count)
        for name in [*(name for name, _ in group.producers), *group.followers]:
            for key in _of_layer(arrays, name):
                arrays[key] = arrays[key][..., chosen]
        for name in group.consumers:
            # Rows by tap, band and channel; also where bands were folded into channels.
            kernel = arrays[f"{name}.kernel"]
            places = len(kernel) // group.size
            rows = kernel.reshape(places, group.size, -1)[:, chosen]
            arrays[f"{name}.kernel"] = rows.reshape(places * count, -1)
    into.load_state(arrays)


def _of_layer(arrays: dict[str, np.ndarray], name: str) -> Iterator[str]:
    wanted = ("kernel", "bias", "scale", "shift", "mean", "variance")
    return iter([key for key in (f"{name}.{part}" for part in wanted) if key in arrays])
