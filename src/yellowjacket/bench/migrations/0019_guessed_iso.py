"""Blind rounds that ask which ISO a picture was shot at."""

from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('bench', '0018_shot_or_predicted'),
    ]

    operations = [
        migrations.AddField(
            model_name='blindtrial',
            name='named_iso',
            field=models.PositiveIntegerField(null=True),
        ),
        migrations.AlterField(
            model_name='blindround',
            name='kind',
            field=models.CharField(choices=[('line', 'where is my line'), ('pairs', 'which is better'), ('higher', 'which is the higher ISO'), ('same', 'same or different'), ('real', 'which was really shot'), ('guess', 'which ISO is it')], default='line', max_length=8),
        ),
    ]
