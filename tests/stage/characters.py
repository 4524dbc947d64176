"""A person of glTF who walks and turns the head, and a camera that moves."""

import numpy as np
from scipy.spatial.transform import Rotation

from kobrel.stage.people import standing

from .gltf_files import GltfFile

SECONDS = np.linspace(0, 2, 25)
EYE = np.array([0.035, 1.675, 0.118])


def turns(axis, degrees):
    return Rotation.from_rotvec(np.radians(np.outer(degrees, np.eye(3)["xyz".index(axis)])))


class Walker:
    """The file, and by formula where its points are."""

    def __init__(self):
        mesh = standing()
        self.points, self.triangles = mesh.points.astype(float), mesh.triangles
        height = self.points[:, 1]
        self.weights = np.zeros((len(self.points), 4), np.float32)
        self.weights[:, 1] = np.clip((height - 1.42) / 0.1, 0, 1)
        self.weights[:, 2] = np.clip((0.9 - height) / 0.2, 0, 1)
        self.weights[:, 0] = 1 - self.weights[:, 1:].sum(axis=1)
        self.rest = np.array([[0, 0.95, 0], [0, 1.5, 0], [0.09, 0.86, 0]])
        self.path = np.c_[0.3 * np.sin(3 * SECONDS), 0.95 + 0.03 * np.cos(9 * SECONDS), 1.4 * SECONDS]
        self.head = turns("y", 40 * np.sin(4 * SECONDS))
        self.leg = turns("x", 30 * np.sin(7 * SECONDS))

    def write(self, path, camera=True):
        file = GltfFile()
        skin = {
            "JOINTS_0": file.accessor(np.tile(np.arange(4, dtype=np.uint8) % 3, (len(self.points), 1))),
            "WEIGHTS_0": file.accessor(self.weights),
        }
        mesh = file.mesh(self.points, self.triangles.ravel().astype(np.uint32), **skin)
        hip = file.node(name="hip", children=[1, 2])
        file.node(name="head", translation=(self.rest[1] - self.rest[0]).tolist())
        file.node(name="leg", translation=(self.rest[2] - self.rest[0]).tolist())
        bind = np.tile(np.eye(4), (3, 1, 1))
        bind[:, :3, 3] = -self.rest
        matrices = np.swapaxes(bind, 1, 2).reshape(-1, 16).astype(np.float32)
        file.json["skins"] = [{"joints": [0, 1, 2], "inverseBindMatrices": file.accessor(matrices)}]
        body = file.node(name="person", mesh=mesh, skin=0)
        file.animate(hip, "translation", SECONDS, self.path)
        file.animate(1, "rotation", SECONDS, self.head.as_quat())
        file.animate(2, "rotation", SECONDS, self.leg.as_quat())
        nodes = [hip, body]
        if camera:
            file.json["cameras"] = [{"type": "perspective", "perspective": {"yfov": 0.5, "aspectRatio": 1.5}}]
            eye = file.node(name="camera", camera=0)
            places = np.c_[0.5 * SECONDS, 1.7 + 0 * SECONDS, 7 - 0.6 * SECONDS]
            file.animate(eye, "translation", SECONDS, places)
            nodes.append(eye)
        file.json["scenes"] = [{"nodes": nodes}]
        return file.write(path)

    def at(self, points, weights, frame):
        """Where points at rest with these weights of hip, head and leg are at a frame, by the formula."""
        seconds = frame / 24.0
        low = min(int(np.searchsorted(SECONDS, seconds, side="right")) - 1, len(SECONDS) - 2)
        part = (seconds - SECONDS[low]) / (SECONDS[low + 1] - SECONDS[low])

        def turned(track):
            step = (track[low].inv() * track[low + 1]).as_rotvec() * part
            return (track[low] * Rotation.from_rotvec(step)).as_matrix()

        hip = self.path[low] * (1 - part) + self.path[low + 1] * part
        result = np.zeros_like(points)
        for k, turn in enumerate((np.eye(3), turned(self.head), turned(self.leg))):
            own = hip + self.rest[k] - self.rest[0]
            result += weights[:, k, None] * ((points - self.rest[k]) @ turn.T + own)
        return result
