"""Grades are found by their rung: an index of those of no lane leads through nearly all that there are."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('bench', '0022_blind_rounds_between_lanes'),
    ]

    operations = [
        migrations.AlterField(
            model_name='grade',
            name='lane',
            field=models.ForeignKey(blank=True, db_index=False, null=True, on_delete=django.db.models.deletion.CASCADE, related_name='grades', to='bench.lane'),
        ),
        migrations.AddIndex(
            model_name='grade',
            index=models.Index(condition=models.Q(('lane__isnull', False)), fields=['lane'], name='grade_in_lane'),
        ),
    ]
