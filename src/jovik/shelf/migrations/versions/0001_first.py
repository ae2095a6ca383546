"""The first shelf: drives, claims, rigs, runs, steps, passes."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table('drive',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('name', sa.String(), nullable=False),
    sa.Column('folded_name', sa.String(), nullable=False),
    sa.Column('maker', sa.String(), nullable=False),
    sa.Column('model', sa.String(), nullable=False),
    sa.Column('capacity_bytes', sa.BigInteger(), nullable=True),
    sa.Column('interface', sa.String(), nullable=False),
    sa.Column('medium', sa.String(), nullable=False),
    sa.Column('price', sa.Float(), nullable=True),
    sa.Column('currency', sa.String(), nullable=False),
    sa.Column('warranty_years', sa.Float(), nullable=True),
    sa.Column('endurance_bytes', sa.BigInteger(), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_drive')),
    sa.UniqueConstraint('folded_name', name=op.f('uq_drive_folded_name'))
    )
    op.create_table('rig',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('name', sa.String(), nullable=False),
    sa.Column('facts', sa.JSON(), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_rig')),
    sa.UniqueConstraint('name', name=op.f('uq_rig_name'))
    )
    op.create_table('claim',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('drive_id', sa.Integer(), nullable=False),
    sa.Column('position', sa.Integer(), nullable=False),
    sa.Column('random', sa.Boolean(), nullable=False),
    sa.Column('read_percent', sa.Integer(), nullable=False),
    sa.Column('block_bytes', sa.BigInteger(), nullable=True),
    sa.Column('depth', sa.Integer(), nullable=True),
    sa.Column('workers', sa.Integer(), nullable=True),
    sa.Column('figure', sa.Float(), nullable=False),
    sa.Column('unit', sa.String(), nullable=False),
    sa.Column('up_to', sa.Boolean(), nullable=False),
    sa.Column('sustained', sa.Boolean(), nullable=False),
    sa.Column('printed', sa.String(), nullable=False),
    sa.ForeignKeyConstraint(['drive_id'], ['drive.id'], name=op.f('fk_claim_drive_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_claim'))
    )
    op.create_index(op.f('ix_claim_drive_id'), 'claim', ['drive_id'], unique=False)
    op.create_table('run',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('drive_id', sa.Integer(), nullable=False),
    sa.Column('rig_id', sa.Integer(), nullable=False),
    sa.Column('target', sa.JSON(), nullable=False),
    sa.Column('plan', sa.String(), nullable=False),
    sa.Column('seed', sa.BigInteger(), nullable=False),
    sa.Column('options', sa.JSON(), nullable=False),
    sa.Column('started', sa.String(), nullable=False),
    sa.Column('ended', sa.String(), nullable=True),
    sa.Column('state', sa.String(), nullable=False),
    sa.Column('laid_out_bytes', sa.BigInteger(), nullable=False),
    sa.Column('version', sa.String(), nullable=False),
    sa.ForeignKeyConstraint(['drive_id'], ['drive.id'], name=op.f('fk_run_drive_id')),
    sa.ForeignKeyConstraint(['rig_id'], ['rig.id'], name=op.f('fk_run_rig_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_run'))
    )
    op.create_index(op.f('ix_run_drive_id'), 'run', ['drive_id'], unique=False)
    op.create_table('step',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('run_id', sa.String(), nullable=False),
    sa.Column('position', sa.Integer(), nullable=False),
    sa.Column('phrase', sa.String(), nullable=False),
    sa.Column('kind', sa.String(), nullable=False),
    sa.Column('conditions', sa.JSON(), nullable=False),
    sa.Column('limits', sa.JSON(), nullable=False),
    sa.Column('notes', sa.JSON(), nullable=False),
    sa.Column('started', sa.String(), nullable=False),
    sa.ForeignKeyConstraint(['run_id'], ['run.id'], name=op.f('fk_step_run_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_step')),
    sa.UniqueConstraint('run_id', 'position', name=op.f('uq_step_run_id_position'))
    )
    op.create_index(op.f('ix_step_kind'), 'step', ['kind'], unique=False)
    op.create_table('pass',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('step_id', sa.Integer(), nullable=False),
    sa.Column('number', sa.Integer(), nullable=False),
    sa.Column('finished', sa.String(), nullable=False),
    sa.Column('seed', sa.BigInteger(), nullable=False),
    sa.Column('rate_bytes_s', sa.Float(), nullable=False),
    sa.Column('flushed_rate_bytes_s', sa.Float(), nullable=False),
    sa.Column('iops', sa.Float(), nullable=False),
    sa.Column('read_bytes', sa.BigInteger(), nullable=False),
    sa.Column('written_bytes', sa.BigInteger(), nullable=False),
    sa.Column('elapsed_ns', sa.BigInteger(), nullable=False),
    sa.Column('flush_ns', sa.BigInteger(), nullable=False),
    sa.Column('cpu_ns', sa.BigInteger(), nullable=False),
    sa.Column('errors', sa.BigInteger(), nullable=False),
    sa.Column('first_fault', sa.JSON(), nullable=True),
    sa.Column('slices', sa.LargeBinary(), nullable=False),
    sa.Column('latencies', sa.LargeBinary(), nullable=False),
    sa.ForeignKeyConstraint(['step_id'], ['step.id'], name=op.f('fk_pass_step_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_pass')),
    sa.UniqueConstraint('step_id', 'number', name=op.f('uq_pass_step_id_number'))
    )
