"""Levels, characters and clips from glTF and OBJ files, and rigs fitted to them."""

from tinclock.core.rules.rigs import RigRules as RigRules
from tinclock.intake.meshes.clip_file import Clip as Clip
from tinclock.intake.meshes.clip_file import read_clips as read_clips
from tinclock.intake.meshes.gltf_file import Mesh as Mesh
from tinclock.intake.meshes.mesh_file import LevelMesh as LevelMesh
from tinclock.intake.meshes.mesh_file import MeshTable as MeshTable
from tinclock.intake.meshes.mesh_file import mesh_level as mesh_level
from tinclock.intake.meshes.mesh_file import read_mesh as read_mesh
from tinclock.intake.meshes.rig_fit import Fit as Fit
from tinclock.intake.meshes.rig_fit import fit_rig as fit_rig
from tinclock.intake.meshes.skin_file import Skin as Skin
from tinclock.intake.meshes.skin_file import read_skin as read_skin
