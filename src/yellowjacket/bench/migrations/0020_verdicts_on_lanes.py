"""Verdicts between lanes: with what the pictures of a pair were finished."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('bench', '0019_guessed_iso'),
    ]

    operations = [
        migrations.AddField(
            model_name='pairverdict',
            name='one_lane',
            field=models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.CASCADE, related_name='verdicts', to='bench.lane'),
        ),
        migrations.AddField(
            model_name='pairverdict',
            name='other_lane',
            field=models.ForeignKey(blank=True, null=True, on_delete=django.db.models.deletion.CASCADE, related_name='verdicts_against', to='bench.lane'),
        ),
    ]
