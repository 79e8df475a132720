"""Blind rounds between lanes: with what each side of a pair was finished."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('bench', '0021_readings_of_patch_and_use'),
    ]

    operations = [
        migrations.AddField(
            model_name='blindtrial',
            name='lane',
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.CASCADE, related_name='blind_trials', to='bench.lane'),
        ),
        migrations.AddField(
            model_name='blindtrial',
            name='other_lane',
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.CASCADE, related_name='blind_trials_right', to='bench.lane'),
        ),
        migrations.AlterField(
            model_name='blindround',
            name='kind',
            field=models.CharField(choices=[('line', 'where is my limit'), ('pairs', 'which is better'), ('higher', 'which is the higher ISO'), ('same', 'same or different'), ('real', 'which was really shot'), ('guess', 'which ISO is it')], default='line', max_length=8),
        ),
    ]
